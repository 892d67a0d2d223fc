import { expect, type Page, test } from "@playwright/test";
import { ask, password, person } from "./museum";

// Nobody is left in the dark: what cannot be done is said, what was written is kept, what
// was deleted is restored. A test for each promise, on a sheet with blemishes of its own.
test.describe.configure({ mode: "serial" });

const csv = `Tour,Guide,Guide email,Date,Places

T-1,Rhoda Vance,rhoda@tours.example,2027-04-04,12
T-1,Rhoda Vance,rhoda@tours.example,2027-04-05,14
T-2,Clem Dell,clem@tours.example,soon,9
,,,,
T-3,Otto Grange,,2027-04-06,7
T-4,Pia Holt,pia@tours.example,2027-04-07,20
`;
type Sheet = { id: string; name: string; key: string; columns: { id: string; name: string; type: string }[] };
type Made = { id: string; version: number };
const doc = (text: string) => ({ type: "doc", content: [{ type: "paragraph", content: [{ type: "text", text }] }] });

let page: Page;
let sheet: Sheet;
let rule: Made;
let template: Made;
const column = (name: string) => sheet.columns.find((c) => c.name === name)?.id ?? "";
const rulePath = () => `/sheets/${sheet.id}/rules/${rule.id}`;
const save = () => page.getByRole("button", { name: /^Save\b/ });
const keys = () => page.getByRole("rowheader");

test.beforeAll(async ({ browser }) => {
  page = await person(browser, "ines");
});
test.afterAll(async () => {
  await ask(page, "DELETE", `/sheets/${sheet.id}`);
  await page.context().close();
});

test("doubled keys are counted, marked, under Needs you, and made one", async () => {
  await page.goto("/sheets/new");
  await page
    .getByLabel("File of rows")
    .setInputFiles({ name: "Guided tours.csv", mimeType: "text/csv", buffer: Buffer.from(csv) });
  await expect(page.getByText("1 row has a Tour that stood before.")).toBeVisible();
  await page.getByRole("button", { name: "Make a sheet of 5 rows" }).click();
  await expect(page.getByRole("heading", { level: 1 })).toContainText("Guided tours.");
  sheet = (await ask<Sheet[]>(page, "GET", "/sheets")).find((s) => s.name === "Guided tours") as Sheet;
  // What came in, what did not, and what needs a look.
  const result = page.getByRole("complementary", { name: "What was imported" });
  await expect(result).toContainText("5 rows added");
  await expect(result).toContainText("2 blank lines");
  await expect(result.getByRole("listitem")).toHaveText([
    /1 row has a cell that does not fit its column/,
    /1 row has no address/,
    /1 row shares its key with another/,
  ]);
  await result.getByRole("button", { name: "Review" }).first().click();
  await expect(keys()).toHaveText([/T-2/]);
  await page.goto(`/sheets/${sheet.id}`);
  await expect(page.getByRole("img", { name: "Another row had this key before" })).toHaveCount(1);

  await page.goto("/");
  const need = page
    .getByRole("listitem")
    .filter({ hasText: "The same key twice" })
    .filter({ hasText: "Guided tours" });
  await need.getByRole("link", { name: "Review" }).click();
  await expect(keys()).toHaveText([/T-1/, /T-1/]);
  await page.getByRole("grid").focus();
  await page.keyboard.press("Space");
  const slip = page.getByRole("complementary", { name: "Row T-1" });
  await expect(slip).toContainText("2 rows have this key.");
  await slip.getByRole("button", { name: "Make one of them" }).click();
  await slip.getByRole("group", { name: "Date" }).getByText("5 Apr 2027").click();
  await slip.getByRole("button", { name: "Delete 1 row, change 1 cell" }).click();
  await expect(page.getByText("One row is left of 2.")).toBeVisible();
  const rows = await ask<{ total: number; rows: { name: string; cells: { text: string }[] }[] }>(
    page,
    "POST",
    `/sheets/${sheet.id}/rows/query`,
    {
      offset: 0,
      limit: 9,
    },
  );
  expect(rows.rows.map((r) => r.name)).toEqual(["T-1", "T-2", "T-3", "T-4"]);
  expect(rows.rows[0]?.cells[3]?.text).toBe("5 Apr 2027");
  expect(rows.rows[0]?.cells[4]?.text).toBe("12");
  // It was one step, and can be undone as one.
  await page.getByRole("button", { name: "Undo" }).last().click();
  await expect
    .poll(
      async () =>
        (await ask<{ total: number }>(page, "POST", `/sheets/${sheet.id}/rows/query`, { offset: 0, limit: 9 })).total,
    )
    .toBe(5);
});

test("a file is imported by dropping it on Sheets, or on a sheet", async () => {
  const drop = async (name: string) => {
    const files = await page.evaluateHandle(
      ([name, text]) => {
        const d = new DataTransfer();
        d.items.add(new File([text], name, { type: "text/csv" }));
        return d;
      },
      [name, csv] as const,
    );
    await page.locator("main h1").first().dispatchEvent("drop", { dataTransfer: files });
  };
  await page.goto("/sheets");
  await expect(page.getByRole("heading", { level: 1 })).toContainText("Sheets.");
  await drop("Dropped.csv");
  await expect(page.getByRole("heading", { level: 1 })).toContainText("Dropped.csv holds 5 rows in 5 columns");
  await page.goto(`/sheets/${sheet.id}`);
  await expect(keys()).toHaveCount(5);
  await drop("Again.csv");
  await page.getByRole("button", { name: "See what 5 rows would change" }).click();
  await expect(page.getByText("Nothing to change")).toBeVisible(); // the n-th of a key meets the n-th
});

test("a rule says how many rows it cannot judge, and which", async () => {
  template = await ask<Made>(page, "POST", `/sheets/${sheet.id}/templates`, {
    template: { name: "Tour ahead", subject: doc("Your tour"), body: doc("It is soon.") },
  });
  rule = await ask<Made>(page, "POST", `/sheets/${sheet.id}/rules`, {
    body: {
      name: "Before the tour",
      trigger: { kind: "date", column: column("Date"), offsets: [{ n: -3, unit: "days" }], at: "09:00" },
      send: [{ template: template.id }],
      to: [{ column: column("Guide email") }],
    },
  });
  await page.goto(rulePath());
  await expect(page.getByRole("button", { name: "2 rows cannot be judged", exact: true })).toBeVisible(); // beside Switch on
  await page.getByRole("button", { name: "2 rows cannot be judged", exact: true }).click();
  const slip = page.getByRole("complementary", { name: "Rows that cannot be judged" });
  await expect(slip.getByRole("listitem")).toHaveText([
    /T-2Date cannot be read: “soon”Fix/,
    /T-3Guide email is emptyFix/,
  ]);
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: /^Switch on/ }).click();
  await expect(page.getByRole("heading", { level: 1 })).toContainText("is on");

  await page.goto(`/sheets/${sheet.id}`);
  await page.getByRole("link", { name: "2 rows cannot be judged" }).click();
  await expect(keys()).toHaveText([/T-2/, /T-3/]);
  await expect(page.getByText("missing", { exact: true })).toBeVisible();
  await page.getByRole("button", { name: /^Filter:/ }).click();
  await page.getByLabel("Rows that are shown").selectOption("rows with an email coming");
  await page.keyboard.press("Escape");
  await expect(keys()).toHaveText([/T-1/, /T-1/, /T-3/, /T-4/]);
  await page.getByRole("button", { name: /^Filter:/ }).click();
  await page.getByLabel("Rows that are shown").selectOption("rows without an email coming");
  await page.keyboard.press("Escape");
  await expect(keys()).toHaveText([/T-2/]);

  await page.goto("/");
  const need = page.getByRole("listitem").filter({ hasText: "2 rows cannot be judged by rule A" });
  await expect(need.getByRole("link", { name: "Review" })).toBeVisible();
  await need.getByRole("button", { name: "Ignore" }).click();
  await expect(need).toHaveCount(0);
});

test("the marks of a track are reached by keyboard, read, and opened", async () => {
  await page.goto(`/sheets/${sheet.id}`);
  await page.getByRole("rowheader", { name: "T-4" }).click();
  await page.keyboard.press("Alt+ArrowRight");
  await expect(page.getByRole("status").filter({ hasText: "Before the tour" })).toHaveText(
    /Before the tour: .*, Sunday 4 April 09:00, coming$/,
  );
  await page.keyboard.press("Enter");
  await expect(page.getByRole("complementary", { name: "Row T-4" })).toBeVisible();
  await page.keyboard.press("Escape");
  await expect(page.getByRole("grid")).toBeFocused();
  await page.goto("/log");
  await expect(page.getByRole("heading", { level: 1 })).toContainText("went out");
  await page.keyboard.press("Tab");
  await expect(page.getByRole("link", { name: "Skip to the content" })).toBeFocused();
  await page.keyboard.press("Enter");
  await expect(page.locator("#content")).toBeFocused();
});

test("who else has the rule or the template open is shown", async ({ browser }) => {
  const tom = await person(browser, "tom");
  for (const path of [rulePath(), `/templates/${sheet.id}/${template.id}`]) {
    await tom.goto(path);
    await page.goto(path);
    await expect(page.getByText("Tom Ferrar is here too")).toBeVisible();
    await expect(tom.getByText("Ines Karne is here too")).toBeVisible();
  }
  await tom.context().close();
});

test.describe("a lost connection and an ended session", () => {
  test("what cannot be saved says so, and is tried again", async () => {
    await page.goto(rulePath());
    await page.getByLabel("Name of the rule").fill("Before each tour");
    await expect(save()).toBeEnabled();
    await page.context().setOffline(true);
    await save().click();
    await expect(page.getByRole("alert").filter({ hasText: "Nivot cannot be reached" })).toBeVisible();
    await expect(page.getByText(/^No connection since/)).toBeVisible();
    await page.context().setOffline(false);
    await page.getByRole("button", { name: "Try again" }).click();
    await expect(page.getByText("Saved", { exact: true })).toBeVisible();
    await expect(page.getByText(/^No connection since/)).toHaveCount(0);
    await page.context().setOffline(true);
    await page.getByRole("switch").click();
    await expect(page.getByRole("listitem").filter({ hasText: "Nivot cannot be reached" })).toContainText("Try again");
    await expect(page.getByRole("switch")).toContainText("Sending is on");
    await page.context().setOffline(false);
  });

  test("an ended session is renewed over the page, which goes on where it was", async () => {
    // Nothing but the saving itself finds out.
    await page.route("**/presence", (r) => r.abort());
    await page.goto(rulePath());
    await page.getByLabel("Name of the rule").fill("Ahead of each tour");
    await expect(page.getByRole("button", { name: "Save: no email changes" })).toBeEnabled();
    await page.waitForTimeout(1000); // all that the page asks by itself has been answered
    await page.context().clearCookies();
    await save().click();
    const dialog = page.getByRole("dialog", { name: "You are signed out" });
    await dialog.getByLabel("Password").fill("not the password");
    await dialog.getByRole("button", { name: "Sign in" }).click();
    await expect(dialog.getByRole("alert")).toContainText("not right");
    await dialog.getByLabel("Password").fill(password);
    await dialog.getByRole("button", { name: "Sign in" }).click();
    await expect(dialog).toHaveCount(0);
    const name = async () =>
      (await ask<{ body: { name: string } }>(page, "GET", `/sheets/${sheet.id}/rules/${rule.id}`)).body.name;
    await expect.poll(name).toBe("Ahead of each tour");
    await page.unroute("**/presence");
  });
});

test.describe("unsaved work", () => {
  const asks = () => page.getByRole("alertdialog");

  test("leaving asks, and what was written is offered again", async () => {
    for (const [path, label, what] of [
      [rulePath(), "Name of the rule", "rule"],
      [`/templates/${sheet.id}/${template.id}`, "Name of the template", "template"],
    ] as const) {
      await page.goto(path);
      await page.getByLabel(label).fill("Not saved yet");
      await page.getByRole("link", { name: "Sheets", exact: true }).click();
      await expect(asks()).toContainText(`This ${what} is not saved`);
      await asks().getByRole("button", { name: "Stay" }).click();
      await expect(page.getByLabel(label)).toHaveValue("Not saved yet");
      await page.getByRole("link", { name: "Sheets", exact: true }).click();
      await asks().getByRole("button", { name: "Leave without saving" }).click();
      await expect(page).toHaveURL(/\/sheets$/);
      await page.goto(path);
      await expect(page.getByText("Your changes are still here.")).toBeVisible();
      await expect(page.getByLabel(label)).not.toHaveValue("Not saved yet");
      await page.getByRole("button", { name: "Restore them" }).click();
      await expect(page.getByLabel(label)).toHaveValue("Not saved yet");
      // Reload keeps it too.
      page.once("dialog", (d) => void d.accept());
      await page.reload();
      await page.getByRole("button", { name: "Delete them" }).click();
      await expect(page.getByText("Your changes are still here.")).toHaveCount(0);
    }
  });

  test("a new rule, a formula and a form are kept as well", async () => {
    await page.goto(`/sheets/${sheet.id}/rules/new`);
    await page.getByLabel("Name of the rule").fill("A rule begun");
    await page.goBack();
    await page.goto(`/sheets/${sheet.id}/rules/new`);
    await page.getByRole("button", { name: "Restore them" }).click();
    await expect(page.getByLabel("Name of the rule")).toHaveValue("A rule begun");

    page.on("dialog", (d) => void d.accept());
    await page.goto(`/sheets/${sheet.id}?slip=columns`);
    await page.getByRole("button", { name: "Add a column" }).click();
    await page.getByLabel("Name", { exact: true }).fill("Free places");
    await page.goto("/");
    await page.goto(`/sheets/${sheet.id}?slip=columns`);
    await page.getByRole("button", { name: "Restore them" }).click();
    await expect(page.getByRole("button", { name: "Free places, text" })).toBeVisible();
    await page.getByRole("button", { name: "Cancel" }).click();

    await page.goto(`/sheets/${sheet.id}/bring?from=form`);
    await page.getByLabel("Title").fill("Book a tour");
    await page.getByRole("link", { name: "Log", exact: true }).click();
    await asks().getByRole("button", { name: "Leave without saving" }).click();
    await page.goto(`/sheets/${sheet.id}/bring?from=form`);
    await page.getByRole("button", { name: "Restore them" }).click();
    await expect(page.getByLabel("Title")).toHaveValue("Book a tour");
  });

  test("a digit is no shortcut; two keys, or one with Ctrl, are", async () => {
    await page.goto("/log");
    await expect(page.getByRole("heading", { level: 1 })).toContainText("went out");
    await page.locator("body").press("3");
    await page.locator("body").press("g");
    await page.locator("body").press("s");
    await expect(page).toHaveURL(/\/sheets$/);
    await page.goto(rulePath());
    await page.getByLabel("Name of the rule").fill("Before the tour");
    await page.keyboard.press("Control+s");
    await expect(page.getByText("Saved", { exact: true })).toBeVisible();
  });
});

test.describe("what is deleted can be restored", () => {
  test("a sheet is renamed, copied, put away and deleted, and says what that does", async () => {
    await page.goto("/sheets");
    const line = (name: string) =>
      page
        .getByRole("row", { name: new RegExp(`^${name} `) })
        .filter({ has: page.getByRole("button", { name: "Change …" }) });
    const acts = async (name: string) => line(name).getByRole("button", { name: "Change …" }).click();
    await acts("Guided tours");
    await page.getByLabel("Name", { exact: true }).fill("Tours with a guide");
    await page.getByRole("button", { name: "Rename" }).click();
    await expect(line("Tours with a guide")).toBeVisible();
    await acts("Tours with a guide");
    await page.getByRole("button", { name: "Copy, with 5 rows" }).click();
    await expect(page.getByRole("heading", { level: 1 })).toContainText(
      "Tours with a guide, copy. No rule is on yet.",
    );
    await expect(keys()).toHaveCount(5);
    await expect(page.getByRole("region", { name: "Rules on this sheet" })).toContainText("Before the tour");

    await page.goto("/sheets");
    await acts("Tours with a guide, copy");
    await page.getByRole("button", { name: "Put away …" }).click();
    await page.getByRole("button", { name: "Put away 5 rows" }).click();
    const away = page.getByRole("region", { name: "Put away" });
    await expect(away).toContainText("Tours with a guide, copy");
    await away.getByRole("link").click();
    await expect(page.getByText("This sheet is put away: nothing goes out for it.")).toBeVisible();
    await page.getByRole("button", { name: "Use it again" }).click();
    await expect(page.getByText("This sheet is put away")).toHaveCount(0);

    await page.goto("/sheets");
    await acts("Tours with a guide");
    await page.getByRole("button", { name: "Delete …" }).click();
    await expect(asksWith("Delete Tours with a guide?")).toContainText(
      /\d emails of the next four weeks are not sent/,
    );
    await page.getByRole("button", { name: "Delete 5 rows, pause 1 rule" }).click();
    await expect(line("Tours with a guide")).toHaveCount(0);
    await page.getByRole("button", { name: "Restore Tours with a guide" }).click();
    await expect(line("Tours with a guide")).toHaveCount(1);
    await page.goto(rulePath());
    await expect(page.getByRole("heading", { level: 1 })).toContainText("is paused");
    const copy = (await ask<Sheet[]>(page, "GET", "/sheets")).find((s) => s.name === "Tours with a guide, copy");
    await ask(page, "DELETE", `/sheets/${copy?.id}`);
  });
  const asksWith = (title: string) => page.getByRole("alertdialog", { name: title });

  test("a rule, a column and a view", async () => {
    await page.goto(rulePath());
    await page.getByRole("button", { name: "Delete …" }).click();
    await expect(asksWith("Delete rule A, Before the tour?")).toContainText("It has sent nothing.");
    await page.getByRole("button", { name: "Delete the rule" }).click();
    await page.getByRole("button", { name: "Undo" }).last().click();
    await expect(page.getByRole("region", { name: "Rules on this sheet" })).toContainText("Before the tour");

    await page.getByRole("button", { name: "Columns", exact: true }).click();
    await page.getByRole("button", { name: "Places, number" }).click();
    await page.getByRole("button", { name: "Delete this column" }).click();
    await expect(page.getByText("Deletes Places: 5 filled cells.")).toBeVisible();
    await page.getByRole("button", { name: "Change the columns" }).click();
    await page.getByRole("button", { name: "Restore" }).click();
    await expect(page.getByRole("columnheader", { name: "Places" })).toBeVisible();
    await page.keyboard.press("Escape");

    await page.getByRole("button", { name: /^View:/ }).click();
    await page.getByLabel("Name of the view").fill("By guide");
    await page.getByRole("button", { name: "Save what is shown" }).click();
    await expect(page.getByRole("button", { name: /^View: “By guide”/ })).toBeVisible();
    if (!(await page.getByRole("button", { name: "Delete By guide" }).isVisible()))
      await page.getByRole("button", { name: /^View:/ }).click();
    await page.getByRole("button", { name: "Delete By guide" }).click();
    await page.getByText("1 deleted view").click();
    await page.getByRole("button", { name: "Restore" }).click();
    await expect(page.getByRole("button", { name: "Delete By guide" })).toBeVisible();
  });

  test("a person; and a role changes when it is saved", async () => {
    await page.goto("/setup/people");
    await page.getByLabel("Name", { exact: true }).fill("Wilma Sand");
    await page.getByLabel("Address", { exact: true }).fill("wilma@marrowby.example");
    await page.getByRole("button", { name: "Add this person" }).click();
    const role = page.getByLabel("Role of Wilma Sand");
    await role.focus();
    await page.keyboard.press("ArrowUp");
    await page.keyboard.press("ArrowUp");
    const saved = async () =>
      (await ask<{ name: string; role: string }[]>(page, "GET", "/people")).find((p) => p.name === "Wilma Sand")?.role;
    expect(await saved()).toBe("editor");
    await role.selectOption("reader");
    await page
      .getByRole("row", { name: /Wilma Sand/ })
      .getByRole("button", { name: "Save" })
      .click();
    await expect.poll(saved).toBe("reader");
    await page.getByRole("button", { name: "Delete Wilma Sand" }).click();
    await asksWith("Delete Wilma Sand?").getByRole("button", { name: "Delete Wilma Sand" }).click();
    const deleted = page.getByRole("region", { name: "Deleted people" });
    await expect(deleted).toContainText("Wilma Sand");
    await deleted.getByRole("button", { name: "Restore Wilma Sand" }).click();
    await expect(role).toBeVisible();
  });
});

test("a row is mended where it is shown", async () => {
  await page.goto(rulePath());
  await page.getByRole("button", { name: "2 rows cannot be judged", exact: true }).click();
  await page.getByRole("button", { name: "Fix T-2" }).click();
  const field = page.getByRole("textbox", { name: "Date" });
  await expect(field).toBeFocused();
  await field.fill("2027-04-09");
  await page.keyboard.press("Enter");
  const slip = page.getByRole("complementary", { name: "Row T-2" });
  await expect(slip.getByRole("button", { name: "Date: 9 Apr 2027. Change it" })).toBeVisible();
  await expect(slip.getByText("Saved.")).toBeVisible();
  await page.keyboard.press("Escape");
  await page.keyboard.press("Escape");
  await expect(page.getByRole("button", { name: "1 row cannot be judged", exact: true })).toBeVisible();

  // By keyboard, in the sheet: all its cells, the next one with Tab.
  await page.goto(`/sheets/${sheet.id}`);
  await page.getByRole("rowheader", { name: "T-4" }).click();
  await page.keyboard.press("Space");
  const row = page.getByRole("complementary", { name: "Row T-4" });
  await expect(row.getByRole("group", { name: "Cells" }).getByRole("button")).toHaveCount(5);
  await row.getByRole("button", { name: /^Guide: Pia Holt/ }).press("Enter");
  await page.keyboard.press("Control+a");
  await page.keyboard.type("Pia Holt-Moor");
  await page.keyboard.press("Tab");
  await expect(row.getByRole("textbox", { name: "Guide email" })).toBeFocused();
  await page.keyboard.press("Escape");
  await expect(page.getByRole("gridcell", { name: "Pia Holt-Moor" })).toBeVisible();
});

test.describe("what is so is said at once", () => {
  test("names over their length are refused by a sentence, never by a fault", async () => {
    const long = "x".repeat(121);
    const body = {
      trigger: { kind: "added" },
      send: [{ template: template.id }],
      to: [{ column: column("Guide email") }],
    };
    const tries: [string, string, unknown][] = [
      ["POST", `/sheets/${sheet.id}/rules`, { body: { ...body, name: long } }],
      ["POST", `/sheets/${sheet.id}/templates`, { template: { name: long, subject: doc("a"), body: doc("b") } }],
      ["POST", "/pieces", { piece: { name: long, body: doc("a") } }],
      ["PATCH", `/sheets/${sheet.id}`, { name: long }],
      ["POST", `/sheets/${sheet.id}/copy`, { name: long }],
      ["POST", `/sheets/${sheet.id}/views`, { name: long, shared: false, spec: {} }],
      ["POST", "/calendars", { name: long, weekdays: ["mon"], closed: [] }],
      ["POST", "/people", { name: long, email: "long@marrowby.example", role: "reader" }],
      ["POST", "/tokens", { name: long, role: "reader" }],
      [
        "POST",
        "/setup/senders",
        { name: long, address: "a@marrowby.example", host: "h", port: 25, security: "none", username: "" },
      ],
      ["POST", "/setup/do-not-email", { address: "a@tours.example", reason: "y".repeat(2000) }],
    ];
    for (const [method, path, content] of tries) {
      const said = await ask(page, method, path, content).catch((e: Error) => e.message);
      expect(said, path).toMatch(/: 4\d\d /);
    }
  });

  test("a rule without a name is called by what it does", async () => {
    await page.goto(`/sheets/${sheet.id}/rules/new?when=date&column=${column("Date")}`);
    await expect(page.getByLabel("Name of the rule")).toHaveAttribute("placeholder", "Date reminder");
    await expect(save()).toBeEnabled();
    await save().click();
    await expect(page).toHaveURL(/rules\/(?!new)/);
    await expect(page.getByLabel("Name of the rule")).toHaveValue("Date reminder");
    await page.getByLabel("Name of the rule").fill("x".repeat(130));
    await expect(page.getByText("A name has 120 characters at the most.")).toBeVisible();
    await page.getByLabel("Name of the rule").fill("Date reminder");
    await expect(save()).toBeDisabled();
    await page.getByRole("button", { name: "Delete …" }).click();
    await page.getByRole("button", { name: "Delete the rule" }).click();
    await expect(page).toHaveURL(/sheets\/\w+$/);
  });

  test("a reader who types is told that it is to be looked at", async ({ browser }) => {
    const hugh = await person(browser, "hugh");
    await hugh.goto(`/sheets/${sheet.id}`);
    await expect(hugh.getByText("You may look at this sheet, not change it.", { exact: true })).toBeVisible();
    await hugh.getByRole("rowheader", { name: "T-4" }).click();
    await hugh.keyboard.type("Q");
    await expect(hugh.getByText("An administrator can make you an editor.")).toBeVisible();
    await hugh.goto(rulePath());
    await expect(hugh.getByText("You may look at this rule, not change it.")).toBeVisible();
    await hugh.context().close();
  });

  test("[[ is a plain bracket, and an empty sheet says that it is empty", async () => {
    await page.goto(`/templates/${sheet.id}/${template.id}`);
    const text = page.getByRole("textbox", { name: "Email text" });
    await text.click();
    await page.keyboard.press("Control+End");
    await page.keyboard.type(" [");
    await expect(page.getByRole("listbox", { name: "Fields" })).toBeVisible();
    await page.keyboard.type("[see below]");
    await expect(page.getByRole("listbox", { name: "Fields" })).toHaveCount(0);
    await expect(text).toContainText("It is soon. [see below]");
    await page.keyboard.press("Control+s");
    await expect(page.getByText("Saved", { exact: true })).toBeVisible();

    await page.goto("/sheets/new");
    await page.getByRole("button", { name: "Start with an empty sheet" }).click();
    await expect(page.getByText("No row yet.")).toBeVisible();
    const empty = page.url().split("/").pop() ?? "";
    await page.goto(`/templates/${empty}/new`);
    await expect(page.getByText("The sheet has no rows yet: nothing can be checked, and no row shown.")).toBeVisible();
    await page.goto(`/sheets/${empty}/rules/new`);
    await expect(page.getByText("The sheet has no rows yet.")).toBeVisible();
    await ask(page, "DELETE", `/sheets/${empty}`);
  });
});
