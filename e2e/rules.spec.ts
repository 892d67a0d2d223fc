import AxeBuilder from "@axe-core/playwright";
import { expect, type Locator, type Page, test } from "@playwright/test";
import { ask, mails, ruleEditor, signIn, tabOnTo } from "./museum";

// Every kind of "when", said from an empty sentence; what is held, let go in
// part; what is sent by hand, stopped half way.

type Named = { id: string; name: string };
let page: Page;
const sheets: Record<string, string> = {};
test.beforeAll(async ({ browser }) => {
  page = await (await browser.newContext()).newPage();
  await signIn(page, "ines");
  for (const s of await ask<Named[]>(page, "GET", "/sheets")) sheets[s.name] = s.id;
});
test.afterAll(() => page.context().close());

const { blank, slip, sentence, more, close, begin, template } = ruleEditor(
  () => page,
  (name) => sheets[name] ?? "",
);
// What is still fading, when it is looked at, is looked at again.
const axe = () =>
  expect
    .poll(async () => {
      const found = await new AxeBuilder({ page }).setLegacyMode(true).options({ iframes: false }).analyze();
      return found.violations.filter((v) => v.impact === "serious" || v.impact === "critical").map((v) => v.id);
    })
    .toEqual([]);

const says = (words: string) =>
  expect
    .poll(sentence)
    .toBe(
      `${words} Nobody gets the same words twice within twelve hours. The first run is held until somebody has reviewed it.`,
    );

test("some working days before a date, and a wording of its own on the day", async () => {
  await begin("Outgoing loans", "Three working days", "some days before or after a date");
  await slip().getByLabel("How many").fill("3");
  await slip().getByLabel("Unit").selectOption("working-days");
  await slip().getByRole("button", { name: "and also …" }).click();
  await slip().getByLabel("Before or after").nth(1).selectOption("on");
  await slip().getByLabel("With which template").nth(1).selectOption({ label: "Overdue" });
  await close();
  await blank("/trigger/column").click();
  await slip().getByRole("radio", { name: "Return due" }).check();
  await axe();
  await close();
  await template("Return");
  await says(
    "3 working days before and on return due at 09:00, write Return, but Overdue on the day, to contact email.",
  );
  await expect(page.getByRole("heading", { name: /220 rows match now/ })).toBeVisible();
});

test("a state that goes from one to another, with two wordings and follow-ups until it is done", async () => {
  await begin("Outgoing loans", "Gone out", "as soon as a cell becomes something");
  await slip().getByRole("radio", { name: "State" }).check();
  await close();
  await blank("/trigger/to").click();
  await slip().getByLabel("out", { exact: true }).check();
  await close();
  await more("coming from …");
  await slip().getByLabel("agreed").check();
  await close();
  await template("Packing");
  await more("another template where …");
  await slip().getByRole("button", { name: "Only rows where …" }).click();
  await slip().getByLabel("Column", { exact: true }).selectOption({ label: "Insured value" });
  await slip().getByLabel("How", { exact: true }).selectOption("<");
  await slip().getByLabel("Value").fill("500");
  await close();
  await template("News");
  await more("then again after …");
  await expect(slip()).toBeVisible(); // a key that comes before it closes nothing
  await close();
  await more("until …");
  await slip().getByRole("button", { name: "Only rows where …" }).click();
  await slip().getByLabel("Column", { exact: true }).selectOption({ label: "Condition report" });
  await slip().getByLabel("signed").check();
  await close();
  await axe();
  await says(
    "As soon as state goes from agreed to out, write News where insured value is below £500, else Packing, to contact email. Again after 3 days with Packing, until condition report is signed.",
  );
});

test("a number that passes the row's own limit, and is armed again below it", async () => {
  await begin("Display cases", "Too damp", "as soon as a number passes a limit");
  await slip().getByRole("radio", { name: "the row’s own, in a column" }).check();
  await slip().getByLabel("Column", { exact: true }).selectOption({ label: "Humidity limit" });
  await close();
  await blank("/trigger/column").click();
  await slip()
    .getByRole("radio", { name: /Humidity now/ })
    .check();
  await close();
  await more("again only once it is back at …");
  await slip().getByRole("radio", { name: "a share of the limit away from it" }).check();
  await slip().getByLabel("Percent").fill("10");
  await close();
  await template("Damp");
  await says(
    "As soon as humidity now reaches humidity limit, and again only once it has come back to 10% below the limit, write Damp to keeper email.",
  );
});

test("a row that is added, and columns that are edited", async () => {
  await begin("Volunteers", "Welcome them", "as soon as a row is added");
  await close();
  await template("Welcome");
  await says("As soon as a row is added, write Welcome to email.");
  await begin("Volunteers", "Rota changed", "whenever some columns are edited");
  await slip().getByLabel("Rota day").check();
  await slip().getByLabel("On leave").check();
  await close();
  await template("Rota");
  await says("Whenever rota day or on leave is edited, write Rota to email.");
});

test("the last working day of the month, with its dates and its text", async () => {
  await begin("Volunteers", "End of the month", "on a schedule, or once on a day");
  await slip().getByLabel("How it comes round").selectOption({ label: "by months" });
  await slip().getByLabel("Which day of the month").selectOption({ label: "the last working day" });
  await slip().getByRole("button", { name: "as text" }).click();
  await expect(slip().getByLabel("Recurrence rule (RFC 5545)")).toHaveValue("FREQ=MONTHLY;BYMONTHDAY=-1");
  await expect(slip()).toContainText("31 Mar");
  await axe();
  await close();
  await template("Thank you");
  await says("On the last working day of each month at 09:00, write Thank you to email.");
});

test("by keyboard alone: a sentence about each year on a day, switched on and paused", async () => {
  await page.goto(`/sheets/${sheets.Volunteers}/rules/new`);
  await page.getByLabel("Name of the rule").focus();
  await page.keyboard.type("A year with us");
  const tabTo = (what: Locator) => tabOnTo(page, what);
  await tabTo(blank("/trigger/kind"));
  await page.keyboard.press("Enter");
  await expect(slip()).toBeVisible();
  await page.keyboard.press("Enter"); // the first of them: a date
  await expect(slip().getByLabel("How many")).toBeVisible();
  await page.keyboard.press("Escape");
  await tabTo(blank("/trigger/column"));
  await page.keyboard.press("Enter");
  await expect(slip()).toBeVisible();
  await page.keyboard.press("Escape");
  await tabTo(blank("/send/0/template"));
  await page.keyboard.press("Enter");
  await page.keyboard.press("Space"); // the first template
  await page.keyboard.press("Escape");
  await tabTo(page.getByRole("button", { name: /^every year …/ }));
  await page.keyboard.press("Enter");
  await expect(slip().getByText("How often the date comes round")).toBeVisible();
  await page.keyboard.press("Escape");
  // A date that is put right after its email brings no second one in the year.
  await says(
    "7 days before joined on, every year, at 09:00, write First aid to email. " +
      "Not again to the same row within 328 days.",
  );
  await expect(page.getByRole("button", { name: /^Switch on: \d+ emails in 60 days/ })).toBeEnabled();
  await tabTo(page.getByRole("button", { name: /^Switch on/ }));
  await page.keyboard.press("Enter");
  await expect(page.getByRole("button", { name: /^Pause/ })).toBeVisible();
  await tabTo(page.getByRole("button", { name: /^Pause/ }));
  await page.keyboard.press("Enter");
  await expect(page.getByRole("button", { name: /^Resume/ })).toBeVisible();
  await ask(page, "DELETE", `/sheets/${sheets.Volunteers}/rules/${page.url().split("/").pop()}`);
});

test("columns that belong together: the rule means the latest, and another month changes no word of it", async () => {
  test.slow();
  const sheet = `/sheets/${sheets.Volunteers}`;
  const before = await ask<{ columns: { name: string; [key: string]: unknown }[] }>(page, "GET", sheet);
  await page.goto(`${sheet}?slip=columns`);
  await page.getByRole("button", { name: /^Hours this month, number/ }).click();
  await page.getByLabel("Group").fill("Hours");
  await page.getByRole("button", { name: "Change the columns" }).click();
  await expect(page.getByText("The columns are changed.")).toBeVisible();
  await begin("Volunteers", "Hours left", "on a schedule, or once on a day");
  await expect(slip().getByLabel("How it comes round")).toBeVisible();
  await close();
  await template("Rota");
  await more("only rows where …");
  await slip().getByRole("button", { name: "Only rows where …" }).click();
  await slip().getByLabel("Column", { exact: true }).selectOption({ label: "latest of Hours" });
  await slip().getByLabel("How", { exact: true }).selectOption("<");
  await slip().getByLabel("Value").fill("100");
  await close();
  const words = "Every Friday at 09:00, for rows where latest of Hours is below 100, write Rota to email.";
  await says(words);
  await page.getByRole("button", { name: "Save", exact: true }).click();
  await expect(page).not.toHaveURL(/new$/);
  const rule = page.url();
  const matching = page.getByRole("heading", { name: /match(es)? now/ });
  await expect(matching).toContainText("140 of 140 rows match now");
  await page.goto(`${sheet}?slip=columns`);
  await page.getByRole("button", { name: /^Hours this month, number, of Hours/ }).click();
  await page.getByRole("button", { name: "Add the next one" }).click();
  await page.getByLabel("Name", { exact: true }).fill("Hours in April");
  await axe();
  await page.getByRole("button", { name: "Change the columns" }).click();
  await expect(page.getByText("The columns are changed.")).toBeVisible();
  await page.goto(rule);
  await says(words);
  await expect(matching).toHaveText(/ 0 of 140 rows match now/); // nobody has hours in April yet
  await ask(page, "DELETE", `${sheet}/rules/${rule.split("/").pop()}`);
  const edit = ({ ops: _, result: __, ...c }: Record<string, unknown>) => c;
  await ask(page, "PUT", `${sheet}/columns`, { columns: before.columns.map(edit) });
});

test("why, from a mark on a track; and why not, with what would have to change", async () => {
  const sheet = sheets["Outgoing loans"] ?? "";
  await page.goto(`/sheets/${sheet}`);
  await page.locator("svg[role=group] g").filter({ hasText: "A" }).first().click();
  await expect(page.getByRole("button", { name: "Return reminder", expanded: true })).toBeVisible();
  await expect(page.getByRole("listitem").filter({ hasText: "yesstate is out or extended: it is out" })).toBeVisible();
  const { columns } = await ask<{ columns: Named[] }>(page, "GET", `/sheets/${sheet}`);
  const state = columns.find((c) => c.name === "State")?.id;
  const { rows } = await ask<{ rows: { id: string }[] }>(page, "POST", `/sheets/${sheet}/rows/query`, {
    filter: { column: state, op: "is", value: "back" },
    offset: 0,
    limit: 1,
  });
  await page.goto(`/sheets/${sheet}?row=${rows[0]?.id}`);
  await page.getByRole("button", { name: "Return reminder" }).click();
  await expect(page.getByRole("listitem").filter({ hasText: "nostate is out or extended: it is back" })).toBeVisible();
  await expect(page.getByText(/For an email to go: .*state/)).toBeVisible();
  await axe();
});

test("a held batch goes in part, the rest with its reason", async () => {
  const sheet = sheets["Outgoing loans"] ?? "";
  const packing = (await ask<{ id: string; body: Named }[]>(page, "GET", `/sheets/${sheet}/rules`)).find(
    (r) => r.body.name === "Packing",
  );
  await page.goto(`/sheets/${sheet}/held/${packing?.id}`);
  const heading = page.getByRole("heading", { name: /\d+ emails wait for you/ });
  const held = Number((await heading.innerText()).match(/(\d+) emails wait/)?.[1]);
  expect(held).toBeGreaterThan(10);
  await axe();
  const before = (await mails(page, "")).total;
  await page.getByRole("button", { name: "pick none" }).click();
  const rows = page.getByRole("checkbox", { name: /^Send / });
  await rows.nth(0).check();
  await rows.nth(1).check();
  await page.getByLabel("Why they are left out").fill("agreed by phone");
  await page.getByRole("button", { name: `Don’t send the other ${held - 2}` }).click();
  await page.getByRole("button", { name: /^Send 2 emails to \d+ (person|people) now$/ }).click();
  await expect(page.getByRole("heading", { name: /Nothing waits for you/ })).toBeVisible();
  await expect.poll(async () => (await mails(page, "")).total - before).toBe(2);
  const log = await ask<{ lines: { outcome: string }[] }>(page, "GET", `/log?sheet=${sheet}&rule=${packing?.id}`);
  expect(log.lines.filter((l) => l.outcome.includes("agreed by phone"))).toHaveLength(held - 2);
});

test("one email to come is left out, and another goes a day later", async () => {
  const sheet = sheets["Outgoing loans"] ?? "";
  const rows = await ask<{ rows: { id: string; name: string }[] }>(page, "POST", `/sheets/${sheet}/rows/query`, {
    offset: 0,
    limit: 1,
  });
  await page.goto(`/sheets/${sheet}?row=${rows.rows[0]?.id}`);
  const change = page.getByRole("button", { name: /^Change this email/ });
  await change.first().click();
  await page.getByRole("menuitem", { name: "Don’t send" }).click();
  await expect(page.getByText("Left out by Ines Karne")).toBeVisible();
  await change.nth(1).click();
  await page.getByRole("menuitem", { name: "A day later" }).click();
  await expect(page.getByText(/Moved by Ines Karne from/)).toBeVisible();
  await axe();
  await change.first().click();
  await page.getByRole("menuitem", { name: "Send it after all" }).click();
  await expect(page.getByText("Left out by Ines Karne")).toBeHidden();
});

test("a round-up that is to come is left out, and back", async () => {
  await page.goto("/log?to=r.moss@marrowby.example");
  await page.getByText(/emails to come/).click();
  // The last of them: the first may go meanwhile.
  const last = page.getByRole("listitem").filter({ hasText: "Loans that are late" }).last();
  await last.getByRole("button", { name: "don’t send" }).click();
  const back = page.getByRole("button", { name: "send it after all" });
  await expect(back).toHaveCount(1);
  await expect(last.getByRole("button", { name: "don’t send" })).toHaveCount(0);
  await axe();
  await back.click();
  await expect(back).toHaveCount(0);
  await expect(last.getByRole("button", { name: "don’t send" })).toBeVisible();
});

test("two rows of one person: the same words once, or twice if asked for; one of two picked", async () => {
  const sheet = sheets["Outgoing loans"] ?? "";
  const pick = async () => {
    await page.goto(`/sheets/${sheet}`);
    await page.getByRole("rowheader", { name: /^LN-0304/ }).click();
    for (let i = 0; i < 5; i++) await page.keyboard.press("Shift+ArrowDown"); // to LN-0309, of the same person
    await page.getByRole("button", { name: /^Send to these/ }).click();
  };
  await pick();
  await expect(page.getByText("Skipped: 1 (the same words as another email).")).toBeVisible();
  await expect(page.getByText(/^same words as the email for LN-0304/)).toBeVisible();
  await expect(page.getByRole("button", { name: "Send 5 emails to 5 people now" })).toBeVisible();
  await axe();
  await ask(page, "PUT", "/sending", { on: false });
  await page.getByRole("button", { name: "send them twice" }).click();
  await page.getByRole("button", { name: "Send 6 emails to 5 people now" }).click();
  await expect(page.getByText("6 held")).toBeVisible();
  const hand = (
    await ask<{ id: string; body: { trigger: { kind: string } } }[]>(page, "GET", `/sheets/${sheet}/rules`)
  ).find((r) => r.body.trigger.kind === "by-hand");
  await page.goto(`/sheets/${sheet}/held/${hand?.id}`);
  const twice = page.getByRole("list", { name: "Twice to one person" });
  await expect(twice).toContainText(
    /bronwen\.udall@valfroide\.example would get 2 emails “News for Musée de Valfroide”/,
  );
  await axe();
  await twice.getByRole("button", { name: "LN-0309" }).click();
  await expect(twice).toBeHidden();
  await expect(page.getByRole("checkbox", { name: "Send LN-0304" })).not.toBeChecked();
  await page.getByRole("button", { name: "Don’t send the other 1" }).click();
  await expect(page.getByRole("heading", { name: /5 emails wait for you/ })).toBeVisible();
  await ask(page, "PUT", "/sending", { on: true });
  await expect.poll(async () => (await mails(page, "News for Musée de Valfroide")).total).toBe(1);
  // What has gone is not said again, whoever asks for it within the day.
  await pick();
  await expect(page.getByText(/5 rows have had this email within/)).toBeVisible();
});

test("sent by hand to picked rows, and stopped half way", async () => {
  const senders = await ask<Record<string, unknown>[]>(page, "GET", "/setup/senders");
  const { id, name, address, host, port, security } = senders[0];
  const sender = { name, address, host, port, security };
  await ask(page, "PUT", `/setup/senders/${id}`, { ...sender, pace: 5 });
  await page.goto(`/sheets/${sheets.Volunteers}`);
  await page.getByRole("rowheader", { name: "V-0001" }).click();
  await page.keyboard.press("Control+a");
  await page.getByRole("button", { name: /^Send to these [\d,]+ rows/ }).click();
  await page.getByRole("button", { name: /^Template: / }).click();
  await slip().getByRole("radio", { name: "Tour" }).check();
  await close();
  await axe();
  await page.getByRole("button", { name: /^Send [\d,]+ emails to [\d,]+ people now/ }).click();
  await page.getByRole("button", { name: /^Stop: / }).click();
  await expect(page.getByText(/Stopped by Ines Karne/)).toBeVisible();
  await axe();
  await ask(page, "PUT", `/setup/senders/${id}`, { ...sender, pace: 0 });
});
