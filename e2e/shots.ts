import { type Locator, type Page, test } from "@playwright/test";
import { ask, signIn } from "./museum";

const csv = `Booking;Guest;Guest email;Visit on;Guide;Group size
B-1;Ida Fell;ida@fell.example;04/04/2027;Rhoda Vance;12
B-2;Otto Grange;otto@grange.example;05/04/2027;Rhoda Vance;8
B-3;Pia Holt;pia@holt.example;04/04/2027;Clem Dell;30
B-4;Quentin Isley;quentin(at)isley.example;04/04/2027;Clem Dell;5
B-5;Tamsin Wick;tamsin@wick.example;soon;Clem Dell;9
`;

const again = `Loan,Object,Return due,State,Condition report
LN-0301,"Ebony butter stamp, c. 1849",28/04/2027,extended,with borrower
LN-0304,Ebony mourning ring,31/03/2027,back,signed
LN-0311,Enamel spyglass,as agreed,out,signed
LN-0313,"Silver snuff box, c. 1851",18/04/2027,out,signed
LN-0521,Watchman’s rattle,02/07/2027,agreed,not started
LN-0522,Travelling inkwell,05/07/2027,asked for,
`;

async function shoot(page: Page, name: string) {
  await page.waitForTimeout(700);
  await page.screenshot({ path: `../docs/screenshots/${name}.png` });
}

test("the main views", async ({ page }) => {
  test.setTimeout(180_000);
  page.on("dialog", (d) => void d.accept()); // pages are left unsaved
  await signIn(page, "ines");
  const loans = (await ask<{ id: string; name: string }[]>(page, "GET", "/sheets")).find(
    (s) => s.name === "Outgoing loans",
  )?.id;
  const rule = (await ask<{ id: string }[]>(page, "GET", `/sheets/${loans}/rules`))[0].id;
  const template = (await ask<{ id: string; sheet: string; name: string }[]>(page, "GET", "/templates")).find(
    (t) => t.sheet === loans && t.name === "Return",
  )?.id;
  await page.goto("/");
  await shoot(page, "today");
  await page.emulateMedia({ colorScheme: "dark" });
  await shoot(page, "today-dark");
  await page.emulateMedia({ colorScheme: "light" });
  await page.setViewportSize({ width: 390, height: 844 });
  await page.goto("/");
  await shoot(page, "phone-today");
  await page.goto(`/sheets/${loans}`);
  await shoot(page, "phone-sheet");
  await page.setViewportSize({ width: 1280, height: 800 });
  await page.goto(`/sheets/${loans}`);
  await page.getByRole("rowheader", { name: /^LN-0314/ }).click();
  await page.keyboard.press("ArrowRight");
  await shoot(page, "sheet");
  await page.goto(`/sheets/${loans}?slip=columns`);
  await page.getByRole("button", { name: /^Days to return, calculated/ }).click();
  await page.getByRole("textbox", { name: "Formula" }).fill("working_days_until(return_due)");
  await page.getByText(/Comes to a number/).scrollIntoViewIfNeeded();
  await page.getByRole("button", { name: "Add a column" }).scrollIntoViewIfNeeded();
  await shoot(page, "columns");
  await page.goto(`/sheets/${loans}/bring`);
  await page.getByLabel("File of rows").setInputFiles({
    name: "Loans, from the registrar.csv",
    mimeType: "text/csv",
    buffer: Buffer.from(again),
  });
  await page.getByRole("button", { name: /See what/ }).click();
  await page.getByLabel("keep rows as they are that the file does not have").check();
  await shoot(page, "plan");
  const row = (
    await ask<{ rows: { id: string; name: string }[] }>(page, "POST", `/sheets/${loans}/rows/query`, {
      offset: 0,
      limit: 50,
    })
  ).rows.find((r) => r.name === "LN-0320")?.id;
  await page.goto(`/sheets/${loans}?row=${row}`);
  await page.getByRole("button", { name: /Return reminder$/ }).click();
  await shoot(page, "row");
  // Why a row gets no email.
  const state = (await ask<{ columns: { id: string; name: string }[] }>(page, "GET", `/sheets/${loans}`)).columns.find(
    (c) => c.name === "State",
  )?.id;
  const home = (
    await ask<{ rows: { id: string }[] }>(page, "POST", `/sheets/${loans}/rows/query`, {
      filter: { column: state, op: "is", value: "back" },
      offset: 0,
      limit: 1,
    })
  ).rows[0].id;
  await page.goto(`/sheets/${loans}?row=${home}&why=${rule}`);
  await page.getByText(/For an email to go/).waitFor();
  await shoot(page, "why-not");
  await page.goto(`/sheets/${loans}/rules/${rule}`);
  await page.locator("[data-place='/condition']").click();
  await shoot(page, "rule");
  // What a change brings, against the rule as it runs.
  await page.keyboard.press("Escape");
  await page.locator("[data-place='/trigger/offsets']").click();
  await page.getByRole("dialog").getByLabel("How many").first().fill("21");
  await page.keyboard.press("Escape");
  await page
    .getByText(/no longer go/)
    .first()
    .scrollIntoViewIfNeeded();
  await shoot(page, "rule-change");
  const packing = (await ask<{ id: string; body: { name: string } }[]>(page, "GET", `/sheets/${loans}/rules`)).find(
    (r) => r.body.name === "Packing",
  );
  await page.goto(`/sheets/${loans}/held/${packing?.id}`);
  await shoot(page, "held");
  // What an edit of many rows would set off.
  await page.goto(`/sheets/${loans}`);
  await page.getByRole("rowheader", { name: /^LN-0301/ }).click();
  for (let i = 0; i < 9; i++) await page.keyboard.press("ArrowRight");
  for (let i = 0; i < 14; i++) await page.keyboard.press("Shift+ArrowDown");
  await page.keyboard.press("Control+d");
  await page.getByRole("dialog").waitFor();
  await shoot(page, "sets-off");
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: /^Send to these/ }).click();
  await page.getByRole("button", { name: /^Send \d+ emails/ }).waitFor();
  await shoot(page, "send");
  await page.goto(`/templates/${loans}/${template}`);
  await shoot(page, "template");
  // A letter with a part and a row's table, one of its fields opened; then two of its versions.
  const packingLetter = (await ask<{ id: string; sheet: string; name: string }[]>(page, "GET", "/templates")).find(
    (t) => t.name === "Packing",
  )?.id;
  await page.goto(`/templates/${loans}/${packingLetter}`);
  await page.getByTestId("previewed").waitFor();
  const letter = page.getByRole("textbox", { name: "Email text" });
  const insert = async (name: RegExp) => {
    await letter.focus();
    await page.waitForTimeout(150);
    await page.keyboard.press("Control+End");
    await page.waitForTimeout(150);
    await page.getByRole("toolbar", { name: "Email text" }).getByRole("button", { name: "Insert" }).click();
    await page.getByRole("dialog").getByRole("button", { name }).click();
    await page.waitForTimeout(150);
  };
  await insert(/^A part shown only if/);
  await page.keyboard.type("It is worth a second pair of hands at the door.");
  await page.getByRole("button", { name: /^Shown only if/ }).click();
  await page.getByRole("dialog").getByLabel("Column", { exact: true }).selectOption({ label: "Insured value" });
  await page.getByRole("dialog").getByLabel("How").selectOption({ label: "is at least" });
  await page.getByRole("dialog").getByRole("spinbutton").fill("1500");
  await page.keyboard.press("Escape");
  await insert(/^The row’s values/);
  await page.keyboard.press("Control+Home");
  await letter.locator(".chip").first().click();
  await shoot(page, "template-field");
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "Save", exact: true }).click();
  await page.waitForTimeout(600);
  const email = (await ask<{ lines: { id: string }[] }>(page, "GET", `/log?limit=1&sheet=${loans}&state=accepted`))
    .lines[0].id;
  await page.goto(`/log?email=${email}`);
  await shoot(page, "log");
  await page.goto("/setup/practice");
  await page.getByRole("row").nth(3).getByRole("button").click();
  await shoot(page, "practice");
  await page.goto("/sheets/new");
  await page.getByLabel("File of rows").setInputFiles({
    name: "Group visits.csv",
    mimeType: "text/csv",
    buffer: Buffer.from(csv),
  });
  await shoot(page, "import");
});

// The pictures of docs/help/words.md: what a word means, where it stands in the demo.
test("a picture for each word", async ({ page }) => {
  test.setTimeout(180_000);
  page.on("dialog", (d) => void d.accept());
  await signIn(page, "ines");
  type Named = { id: string; name: string };
  const sheets = await ask<Named[]>(page, "GET", "/sheets");
  const of = (name: string) => `/sheets/${sheets.find((s) => s.name === name)?.id}`;
  const rules = async (sheet: string) => ask<{ id: string; body: { name: string } }[]>(page, "GET", sheet);
  const rule = async (sheet: string, name: string) =>
    `${of(sheet)}/rules/${(await rules(`${of(sheet)}/rules`)).find((r) => r.body.name === name)?.id}`;
  // What stands around something: so far from its corner, so wide and high.
  const clip = async (name: string, at: Locator, height: number, width = 520, x = -12, y = -10) => {
    await at.first().waitFor();
    await at.first().scrollIntoViewIfNeeded();
    await page.waitForTimeout(400);
    const box = await at.first().boundingBox();
    if (!box) throw new Error(name);
    const left = Math.max(0, Math.min(box.x + x, 1280 - width));
    const top = Math.max(0, Math.min(box.y + y, 800 - height));
    await page.screenshot({ path: `../docs/help/pictures/${name}.png`, clip: { x: left, y: top, width, height } });
  };
  const open = async (path: string) => {
    await page.goto(path);
    await page.locator("main h1, main h2").first().waitFor();
    await page.waitForTimeout(500);
  };

  const email = (
    await ask<{ lines: { id: string }[] }>(
      page,
      "GET",
      `/log?limit=1&sheet=${of("Outgoing loans").slice(8)}&state=accepted`,
    )
  ).lines[0]?.id;
  await open(`/log?email=${email}`);
  await clip("occasion", page.getByText("Why it went"), 110, 460);
  await open(of("Outgoing loans"));
  await clip("track", page.getByRole("rowheader", { name: /^LN-0301/ }), 170, 520, 0, -40);
  await open(`${of("Outgoing loans")}?slip=columns`);
  await clip("settle-time", page.getByText("Settle time: edits count after"), 80, 460, -16, -40);
  await open(await rule("Outgoing loans", "Return reminder"));
  await clip("rehearsal", page.getByRole("heading", { name: /The coming 60 days/ }), 220);
  await page
    .getByRole("button", { name: /rows cannot be judged/ })
    .first()
    .click();
  await clip(
    "cannot-be-judged",
    page.getByRole("complementary", { name: "Rows that cannot be judged" }),
    190,
    560,
    0,
    0,
  );
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "not later than …" }).click();
  await clip("missed", page.getByRole("dialog"), 140, 420, -160, -40);
  await open(`${await rule("Outgoing loans", "Packing")}`.replace("/rules/", "/held/"));
  await clip("held", page.getByRole("heading", { level: 1 }), 210, 700, -10, -10);
  await open(await rule("Display cases", "Damp"));
  await clip("re-arm", page.locator("[data-place='/trigger/column']"), 110, 540, -540, -14);
  await clip("brake", page.getByText(/are held until/), 140, 540, -20, -86);
  await open(await rule("Outgoing loans", "Packing"));
  await clip("follow-up", page.locator("[data-place^='/then']"), 120, 540, -70, -12);
  await open("/");
  await clip("practice-clock", page.getByRole("group", { name: "Practice clock" }), 44, 560, -20, -12);
  await open(`${of("Outgoing loans")}/bring`);
  await page
    .getByLabel("File of rows")
    .setInputFiles({ name: "Loans.csv", mimeType: "text/csv", buffer: Buffer.from(again) });
  await page.getByRole("button", { name: /See what/ }).click();
  await clip("gone", page.getByLabel("keep rows as they are that the file does not have"), 56, 520, -16, -18);
  await open("/sheets/new");
  await page
    .getByLabel("File of rows")
    .setInputFiles({ name: "Group visits.csv", mimeType: "text/csv", buffer: Buffer.from(csv) });
  await page.setViewportSize({ width: 620, height: 800 }); // in a column, as on a small screen
  await clip("key-column", page.getByLabel("Name of column 1"), 120, 600, -12, -30);
  await open("/");
  await clip("in-doubt", page.getByText("Contact with the mail server was lost"), 96, 600, -52, -10);
  await open("/setup/senders");
  await page.getByRole("button", { name: "change" }).first().click();
  await clip("daily-cap", page.getByText(/^People a day at the most/), 90, 600, -16, -12);
  await page.setViewportSize({ width: 1280, height: 800 });
  await open("/setup/calendar");
  await clip("calendar", page.getByRole("checkbox", { name: "Monday" }), 200, 640, -20, -60);
  await open("/setup/do-not-email");
  await clip("do-not-email", page.getByRole("table"), 100, 640);
  const query = { offset: 0, limit: 50 };
  const row = (await ask<{ rows: Named[] }>(page, "POST", `${of("Outgoing loans")}/rows/query`, query)).rows.find(
    (r) => r.name === "LN-0314",
  )?.id;
  await open(`${of("Outgoing loans")}?row=${row}`);
  await page.getByText("Coming", { exact: true }).scrollIntoViewIfNeeded();
  await page
    .getByRole("button", { name: /Return reminder$/ })
    .first()
    .click();
  await clip("left-out", page.getByText("Coming", { exact: true }), 170, 490, -12, -2);
  await open("/setup/practice");
  await page.getByLabel("Find emails").fill("r.moss@marrowby.example");
  await page.getByRole("row", { name: /Loans/ }).first().getByRole("button").click();
  await clip("round-up", page.locator("iframe"), 240, 560, 0, 0);
});
