import { expect, type Page, test } from "@playwright/test";
import { ask, mails, person } from "./museum";

// One sheet, worked in as people do: by keyboard, with tables from other
// programs, by two at once.
test.describe.configure({ mode: "serial" });

type Cell = { text: string; bad?: boolean };
type RowPage = { total: number; rows: { id: string; name: string; gone: boolean; cells: Cell[] }[] };

async function sheetOf(page: Page, name: string): Promise<string> {
  return (await ask<{ id: string; name: string }[]>(page, "GET", "/sheets")).find((s) => s.name === name)?.id ?? "";
}
const rowsOf = (page: Page, sheet: string) =>
  ask<RowPage>(page, "POST", `/sheets/${sheet}/rows/query`, { offset: 0, limit: 500 });

// The clipboard as another program leaves it.
async function clip(page: Page, text: string) {
  await page.evaluate((t) => navigator.clipboard.writeText(t), text);
}

const csv = `Reading;Case;Keeper email;Read on;Humidity;State
R-1;Case 01;m.lowe@marrowby.example;01/03/2027;41;dry
R-2;Case 02;p.vale@marrowby.example;02/03/2027;52;dry
R-3;Case 03;p.vale@marrowby.example;14/03/2027;58.5;damp
R-4;Case 04;j.sallow@marrowby.example;14/03/2027;49;dry
R-5;Case 05;m.lowe@marrowby.example;15/03/2027;61;damp
R-6;Case 06;m.lowe@marrowby.example;15/03/2027;47;dry
R-7;Case 07;p.vale@marrowby.example;15/03/2027;44;dry
R-8;Case 08;p.vale@marrowby.example;15/03/2027;45;damp
`;

test.describe("a sheet in use", () => {
  let page: Page;
  let sheet = "";
  test.beforeAll(async ({ browser }) => {
    page = await person(browser, "tom");
    await page.goto("/sheets/new");
    await page
      .getByLabel("File of rows")
      .setInputFiles({ name: "Readings.csv", mimeType: "text/csv", buffer: Buffer.from(csv) });
    await page.getByRole("button", { name: "Make a sheet of 8 rows" }).click();
    await expect(page.getByRole("rowheader", { name: "R-1" })).toBeVisible();
    sheet = new URL(page.url()).pathname.split("/")[2] ?? "";
  });
  test.afterAll(() => page.close());

  const at = (key: string) => page.getByRole("rowheader", { name: new RegExp(`^${key}\\b`) });
  const cells = async (column: number) => (await rowsOf(page, sheet)).rows.map((r) => r.cells[column]?.text);

  test("a block from another program, undone and done again", async () => {
    await at("R-2").click();
    await page.keyboard.press("ArrowRight");
    await clip(page, 'Case 12\tnobody\t12/03/2027\n"Case 13, ""the blue"""\tx@marrowby.example\tsoon\n');
    await page.keyboard.press("Control+v");
    await expect(page.getByText("Changed 6 cells. 2 cells do not fit and are marked.")).toBeVisible();
    await expect(page.getByRole("gridcell", { name: 'Case 13, "the blue"' })).toBeVisible();
    expect(await cells(3)).toEqual([
      "1 Mar 2027",
      "12 Mar 2027",
      "soon",
      "14 Mar 2027",
      "15 Mar 2027",
      "15 Mar 2027",
      "15 Mar 2027",
      "15 Mar 2027",
    ]);
    await page.keyboard.press("Control+z");
    await expect(page.getByRole("gridcell", { name: "Case 02" })).toBeVisible();
    await page.keyboard.press("Control+y");
    await expect(page.getByRole("gridcell", { name: "Case 12" })).toBeVisible();
    await page.keyboard.press("Control+z");
    await expect(page.getByRole("gridcell", { name: "Case 02" })).toBeVisible();
    expect(await cells(1)).toEqual([
      "Case 01",
      "Case 02",
      "Case 03",
      "Case 04",
      "Case 05",
      "Case 06",
      "Case 07",
      "Case 08",
    ]);
  });

  test("select, sum, copy out, fill down, empty", async () => {
    await at("R-1").click();
    for (let i = 0; i < 4; i++) await page.keyboard.press("ArrowRight");
    for (let i = 0; i < 3; i++) await page.keyboard.press("Shift+ArrowDown");
    await expect(
      page.getByText("4 cells in 4 rows · sum 200.5 · smallest 41 · largest 58.5 · 4 filled"),
    ).toBeVisible();
    await page.keyboard.press("Control+c");
    expect(await page.evaluate(() => navigator.clipboard.readText())).toBe("41\n52\n58.5\n49");
    await page.keyboard.press("Control+d");
    await expect.poll(() => cells(4)).toEqual(["41", "41", "41", "41", "61", "47", "44", "45"]);
    await page.keyboard.press("Delete");
    await expect.poll(() => cells(4)).toEqual(["", "", "", "", "61", "47", "44", "45"]);
    await page.keyboard.press("Control+z");
    await page.keyboard.press("Control+z");
    await expect.poll(() => cells(4)).toEqual(["41", "52", "58.5", "49", "61", "47", "44", "45"]);
    // By mouse, from corner to corner.
    await page.getByRole("gridcell", { name: "Case 05" }).hover();
    await page.mouse.down();
    await page.getByRole("gridcell", { name: "Case 08" }).hover();
    await page.mouse.up();
    await expect(page.getByText("4 cells in 4 rows · 4 filled")).toBeVisible();
  });

  test("what follows at once goes by what has been typed, not by what the server has", async () => {
    await page.route("**/changes", async (route) => {
      const answer = await route.fetch();
      await new Promise((r) => setTimeout(r, 1000));
      await route.fulfill({ response: answer });
    });
    await at("R-5").click();
    for (let i = 0; i < 4; i++) await page.keyboard.press("ArrowRight");
    await page.keyboard.type("71");
    await page.keyboard.press("Enter");
    await page.keyboard.press("ArrowUp");
    for (let i = 0; i < 3; i++) await page.keyboard.press("Shift+ArrowDown");
    await page.keyboard.press("Control+d");
    await expect.poll(() => cells(4)).toEqual(["41", "52", "58.5", "49", "71", "71", "71", "71"]);
    await page.keyboard.press("Control+c");
    expect(await page.evaluate(() => navigator.clipboard.readText())).toBe("71\n71\n71\n71");
    await page.keyboard.press("Delete");
    await expect.poll(() => cells(4)).toEqual(["41", "52", "58.5", "49", "", "", "", ""]);
    await at("R-5").click();
    for (let i = 0; i < 4; i++) await page.keyboard.press("ArrowRight");
    await page.keyboard.type("72");
    await page.keyboard.press("Enter");
    await page.keyboard.press("ArrowUp");
    await page.keyboard.type("61"); // as the server had it at first
    await page.keyboard.press("Enter");
    await expect.poll(() => cells(4)).toEqual(["41", "52", "58.5", "49", "61", "", "", ""]);
    await page.unrouteAll({ behavior: "wait" });
    for (const [row, text] of [
      ["R-6", "47"],
      ["R-7", "44"],
      ["R-8", "45"],
    ] as const) {
      await at(row).click();
      for (let i = 0; i < 4; i++) await page.keyboard.press("ArrowRight");
      await page.keyboard.type(text);
      await page.keyboard.press("Enter");
    }
    await expect.poll(() => cells(4)).toEqual(["41", "52", "58.5", "49", "61", "47", "44", "45"]);
  });

  test("undone before the server has answered: the last change first, then the one before it", async () => {
    await at("R-5").click();
    for (let i = 0; i < 4; i++) await page.keyboard.press("ArrowRight");
    await page.keyboard.type("70");
    await page.keyboard.press("Enter");
    await expect.poll(async () => (await cells(4))[4]).toBe("70");
    // The server has it, and the page does not know until the answer is let through.
    let through = () => {};
    let gate = new Promise<void>((r) => (through = r));
    await page.route(/\/changes(\/[^/]+\/undo)?$/, async (route) => {
      const answer = await route.fetch();
      await gate;
      await route.fulfill({ response: answer });
    });
    await page.keyboard.press("ArrowUp");
    await page.keyboard.press("Delete");
    await expect.poll(async () => (await cells(4))[4]).toBe("");
    await page.keyboard.press("Control+z");
    await page.keyboard.press("Control+z");
    through();
    await expect.poll(async () => (await cells(4))[4]).toBe("61");
    gate = new Promise((r) => (through = r));
    await page.keyboard.press("Control+y");
    await expect.poll(async () => (await cells(4))[4]).toBe("70");
    await page.keyboard.press("Control+z");
    through();
    await expect.poll(async () => (await cells(4))[4]).toBe("61");
    await page.unrouteAll({ behavior: "wait" });
  });

  test("rows in and out", async () => {
    await at("R-3").click();
    await page.keyboard.press("Control+Enter");
    await expect
      .poll(async () => (await rowsOf(page, sheet)).rows.map((r) => r.name).slice(2, 5))
      .toEqual(["R-3", "#9", "R-4"]);
    await page.keyboard.press("Control+z");
    await expect.poll(async () => (await rowsOf(page, sheet)).total).toBe(8);
    await at("R-4").click();
    await page.keyboard.press("Shift+ArrowDown");
    await page.keyboard.press("Control+Delete");
    await expect.poll(async () => (await rowsOf(page, sheet)).total).toBe(6);
    await page.getByRole("button", { name: "History", exact: true }).first().click();
    await page.getByRole("button", { name: "Restore" }).first().click();
    await expect
      .poll(async () => (await rowsOf(page, sheet)).rows.map((r) => r.name))
      .toEqual(["R-1", "R-2", "R-3", "R-4", "R-5", "R-6", "R-7", "R-8"]);
    await page.keyboard.press("Escape");
  });

  test("a date from its calendar, a choice from its options, an address that is wrong", async () => {
    await page.goto(`/sheets/${sheet}`);
    await at("R-1").click();
    for (let i = 0; i < 3; i++) await page.keyboard.press("ArrowRight");
    await page.keyboard.press("Enter");
    await page.getByRole("button", { name: /March 18/ }).click();
    await expect.poll(async () => (await cells(3))[0]).toBe("18 Mar 2027");
    await at("R-1").click();
    for (let i = 0; i < 5; i++) await page.keyboard.press("ArrowRight");
    await page.keyboard.type("da");
    await expect(page.getByRole("option", { name: "damp" })).toBeVisible();
    await page.keyboard.press("ArrowDown");
    await page.keyboard.press("Enter");
    await expect.poll(async () => (await cells(5))[0]).toBe("damp");
    await at("R-1").click();
    for (let i = 0; i < 2; i++) await page.keyboard.press("ArrowRight");
    await page.keyboard.type("m.lowe(at)marrowby");
    await page.keyboard.press("Enter");
    await page.keyboard.press("ArrowUp");
    await expect(page.getByText(/m\.lowe\(at\)marrowby.*(address|@)/).first()).toBeVisible();
    await page.keyboard.press("F8");
    const slip = page.getByRole("complementary", { name: /History of Keeper email/ });
    await expect(slip.getByText("It holds m.lowe(at)marrowby now.")).toBeVisible();
    await slip.getByRole("button", { name: /Restore “m.lowe@marrowby.exam/ }).click();
    await expect.poll(async () => (await cells(2))[0]).toBe("m.lowe@marrowby.example");
    await page.keyboard.press("Escape");
  });

  test("what is being typed is kept when one clicks elsewhere", async () => {
    await at("R-2").click();
    await page.keyboard.press("ArrowRight");
    await page.keyboard.type("Case 02, north");
    await at("R-4").click();
    await expect.poll(async () => (await cells(1))[1]).toBe("Case 02, north");
    await page.keyboard.press("Control+z");
    await expect.poll(async () => (await cells(1))[1]).toBe("Case 02");
  });

  test("find, order by two columns, filter, and keep the view", async () => {
    await page.goto(`/sheets/${sheet}`);
    await at("R-1").click();
    await page.keyboard.press("Control+f");
    await page.getByLabel("Find in this view, or go to a key").fill("r-7");
    await page.keyboard.press("Enter");
    await expect(page.getByText("1 row holds it")).toBeVisible();
    await page.keyboard.press("Escape");
    await page.getByRole("button", { name: /^Sort/ }).click();
    await page.getByLabel("Sort by another column").selectOption({ label: "State" });
    await page.getByLabel("Sort by another column").selectOption({ label: "Humidity" });
    await page.getByLabel("descending").nth(1).check();
    await page.keyboard.press("Escape");
    await expect(page.getByRole("rowheader")).toHaveText([/R-2/, /R-4/, /R-6/, /R-7/, /R-5/, /R-3/, /R-8/, /R-1/]);
    await page
      .getByRole("columnheader", { name: /Humidity/ })
      .getByRole("button")
      .click();
    await page.getByRole("menuitem", { name: "Only rows where it …" }).click();
    await page.getByLabel("Value").fill("45");
    await page.keyboard.press("Escape");
    await expect(page.getByRole("rowheader")).toHaveText([/R-2/, /R-4/, /R-6/, /R-5/, /R-3/, /R-8/]);
    await page.getByRole("button", { name: /^View/ }).click();
    await page.getByLabel("Name of the view").fill("Damp first");
    await page.getByLabel("share").check();
    await page.getByRole("button", { name: "Save what is shown" }).click();
    await expect(page).toHaveURL(/view=/);
    await page.reload();
    await expect(page.getByRole("button", { name: "View: “Damp first”" })).toBeVisible();
    await expect(page.getByRole("rowheader")).toHaveCount(6);
  });

  test("a formula, with its result before it is kept and its fault by its place", async () => {
    await page.goto(`/sheets/${sheet}?slip=columns`);
    await page.getByRole("button", { name: "Add a column" }).click();
    await page.getByLabel("Name", { exact: true }).fill("Days since");
    await page.getByRole("combobox", { name: /^Type/ }).selectOption("formula");
    const formula = page.getByRole("textbox", { name: "Formula" });
    await formula.fill("days_since(read");
    await expect(page.getByRole("option", { name: /read_on/ })).toBeVisible();
    await formula.fill("days_since(nothing)");
    await expect(page.getByText(/at character 12: there is no column nothing/)).toBeVisible();
    await formula.fill("days_since(read_on)");
    await expect(page.getByText(/Comes to a number: -?\d+ · /)).toBeVisible();
    await page.getByRole("button", { name: "Change the columns" }).click();
    await expect(page.getByText("The columns are changed.")).toBeVisible();
    await expect.poll(async () => (await cells(6)).every((t) => t !== "")).toBe(true);
    // Another type says what it would lose, and loses nothing.
    await page.getByRole("button", { name: "Case, text" }).click();
    await page.getByRole("combobox", { name: /^Type/ }).selectOption("number");
    await expect(page.getByText(/8 cells of 8 would not fit/)).toBeVisible();
    await page.getByRole("button", { name: "Change the columns; 8 cells will not fit" }).click();
    await expect
      .poll(async () => (await rowsOf(page, sheet)).rows[0]?.cells[1])
      .toMatchObject({ text: "Case 01", bad: true });
    await page.getByRole("combobox", { name: /^Type/ }).selectOption("text");
    await expect(page.getByText(/8 cells would fit that did not/)).toBeVisible();
    await page.getByRole("button", { name: "Change the columns" }).click();
    await expect.poll(async () => (await rowsOf(page, sheet)).rows[0]?.cells[1]).toEqual({ text: "Case 01" });
  });

  test("a file again: what it would change, then changing it, then not", async () => {
    await page.goto(`/sheets/${sheet}/bring`);
    await page.getByLabel("File of rows").setInputFiles({
      name: "again.csv",
      mimeType: "text/csv",
      buffer: Buffer.from("Humidity;Reading;Remark\n70;r-3;leak\n45;R-8;\n50;R-9;new\n"),
    });
    await expect(page.getByLabel("Column for Remark")).toHaveValue("+");
    await page.getByLabel("Column for Remark").selectOption("");
    await page.getByRole("button", { name: "See what 3 rows would change" }).click();
    const plan = page.getByRole("region", { name: "The file" });
    await expect(plan.getByRole("row", { name: /Humidity/ })).toHaveText(/R-3\s*Humidity\s*58.5\s*70/i);
    await page.getByRole("button", { name: "Add 1 row, change 1, mark 6 as gone" }).click();
    const result = page.getByRole("complementary", { name: "What was imported" });
    await expect(result).toContainText(
      /1 row added.*1 row changed, in 2 cells.*6 rows marked as gone.*The column Remark/,
    );
    await result.getByRole("button", { name: "close" }).click();
    expect((await rowsOf(page, sheet)).rows.filter((r) => r.gone)).toHaveLength(6);
    await at("R-8").click();
    await page.keyboard.press("Control+z");
    await expect
      .poll(async () => (await rowsOf(page, sheet)).rows.map((r) => `${r.name} ${r.gone}`))
      .toEqual([1, 2, 3, 4, 5, 6, 7, 8].map((n) => `R-${n} false`));
  });

  test("out as a workbook and in again changes nothing", async () => {
    await page.goto(`/sheets/${sheet}?slip=out`);
    const waiting = page.waitForEvent("download");
    await page.getByRole("link", { name: "Export 8 rows" }).click();
    const file = await (await waiting).path();
    await page.goto(`/sheets/${sheet}/bring`);
    await page.getByLabel("File of rows").setInputFiles(file);
    await page.getByRole("button", { name: "See what 8 rows would change" }).click();
    await expect(page.getByRole("button", { name: "Nothing to change" })).toBeDisabled();
  });

  test("what was typed while the server was away is saved on its return", async () => {
    await page.goto(`/sheets/${sheet}`);
    await at("R-6").click();
    await page.keyboard.press("ArrowRight");
    await page.route("**/api/sheets/*/changes", (r) => r.abort());
    await page.keyboard.type("Case 06, moved");
    await page.keyboard.press("Enter");
    await expect(page.getByText("1 cell is not saved yet; it is tried again.")).toBeVisible();
    await page.reload();
    await expect(page.getByRole("gridcell", { name: "Case 06, moved (not saved yet)" })).toBeVisible();
    await page.unroute("**/api/sheets/*/changes");
    await expect.poll(async () => (await cells(1))[5]).toBe("Case 06, moved");
    await expect(page.getByText(/not saved yet/)).toHaveCount(0);
  });
});

test("two people in one sheet: each sees the other, and a clash is chosen", async ({ browser }) => {
  const tom = await person(browser, "tom");
  const rosa = await person(browser, "rosa");
  const cases = await sheetOf(tom, "Display cases");
  for (const p of [tom, rosa]) {
    await p.goto(`/sheets/${cases}`);
    await expect(p.getByRole("rowheader", { name: "Case 01" })).toBeVisible();
  }
  await expect(tom.getByText("Rosa Moss is here too")).toBeVisible();
  await rosa.getByRole("rowheader", { name: "Case 03" }).click();
  await rosa.keyboard.press("ArrowRight");
  await expect(tom.getByTitle("RM is here")).toBeVisible();
  // Tom's edit shows at Rosa's, with who it was.
  await tom.getByRole("rowheader", { name: "Case 01" }).click();
  await tom.keyboard.press("ArrowRight");
  await rosa.getByRole("rowheader", { name: "Case 01" }).click();
  await rosa.keyboard.press("ArrowRight");
  await rosa.keyboard.press("Enter"); // Rosa is typing when it lands
  await tom.keyboard.type("Bell tower, upper floor");
  await tom.keyboard.press("Enter");
  await expect(rosa.getByTitle("Just changed by TF")).toBeVisible({ timeout: 8000 }); // it stands for nine
  await rosa.keyboard.press("Control+a");
  await rosa.keyboard.type("Undercroft, lower floor");
  await rosa.keyboard.press("Enter");
  const clash = rosa.getByRole("dialog", { name: "Somebody else wrote there meanwhile" });
  await expect(clash.getByText("Bell tower, upper floor")).toBeVisible();
  await expect(tom.getByRole("gridcell", { name: "Bell tower, upper floor" })).toBeVisible();
  await clash.getByRole("button", { name: "Use mine" }).click();
  await expect(tom.getByRole("gridcell", { name: "Undercroft, lower floor" })).toBeVisible();
  await rosa.close();
  await expect(tom.getByText("Rosa Moss is here too")).toHaveCount(0);
});

test("a form adds a row without a script, and can be closed", async ({ browser }) => {
  const tom = await person(browser, "tom");
  const volunteers = await sheetOf(tom, "Volunteers");
  await tom.goto(`/sheets/${volunteers}/bring?from=form`);
  const link = tom.getByRole("link", { name: /\/forms\// });
  const address = await link.getAttribute("href");
  const context = await browser.newContext({ javaScriptEnabled: false });
  const page = await context.newPage();
  await page.goto(new URL(address ?? "").pathname);
  await page.getByLabel("Your name").fill("Verity Rusk");
  await page.getByLabel("Your email address").fill("verity.rusk@volunteers.marrowby.example");
  await page.getByRole("button", { name: "Join in" }).click();
  // Whose address it is has to confirm it, before anything else goes there.
  await expect(page.getByRole("status")).toContainText("One more step");
  const ines = await person(browser, "ines");
  const asked = await mails(ines, "Please confirm: Volunteer at Marrowby Museum");
  expect(asked.messages.map((m) => m.to)).toEqual([["verity.rusk@volunteers.marrowby.example"]]);
  const { text } = await ask<{ text: string }>(ines, "GET", `/practice/messages/${asked.messages[0]?.id}`);
  await page.goto(new URL(/http:\/\/\S+\/confirm\/\S+/.exec(text)?.[0] ?? "").pathname);
  await page.getByRole("button", { name: "Confirm" }).click();
  await expect(page.getByRole("status")).toContainText("Thank you");
  // Once the row has rested, the rule for added rows writes.
  const now = (await ask<{ clock: { now: string } }>(ines, "GET", "/session")).clock.now;
  await ask(ines, "POST", "/clock", { to: "instant", at: new Date(Date.parse(now) + 300_000).toISOString() });
  await expect
    .poll(async () => (await mails(ines, "Welcome to Marrowby, Verity")).messages.map((m) => m.to))
    .toEqual([["verity.rusk@volunteers.marrowby.example"]]);
  await ines.close();
  await tom.goto(`/sheets/${volunteers}`);
  await tom.getByRole("button", { name: /^Text/ }).click();
  await tom.getByLabel("Text in any cell", { exact: true }).fill("verity");
  await tom.keyboard.press("Escape");
  await expect(tom.getByRole("gridcell", { name: "Verity Rusk" })).toBeVisible();
  await tom.goto(`/sheets/${volunteers}/bring?from=form`);
  await tom.getByRole("button", { name: "Close the form" }).click();
  await expect(tom.getByText("The form is closed.").first()).toBeVisible();
  await page.goto(new URL(address ?? "").pathname);
  await expect(page.getByText("This form is closed")).toBeVisible();
  await tom.getByRole("button", { name: "Open the form, with 4 questions" }).click();
  await expect(tom.getByText("The form is open.").first()).toBeVisible();
  // The browser that has confirmed the address is not asked again; another one is.
  await page.goto(new URL(address ?? "").pathname);
  await page.getByLabel("Your name").fill("Verity Rusk, once more");
  await page.getByLabel("Your email address").fill("verity.rusk@volunteers.marrowby.example");
  await page.getByRole("button", { name: "Join in" }).click();
  await expect(page.getByRole("status")).toContainText("Thank you");
  // With a script the browser shows a proof, and is let in more often.
  const scripted = await (await browser.newContext()).newPage();
  for (let i = 0; i < 5; i++) {
    await scripted.goto(new URL(address ?? "").pathname);
    await scripted.getByLabel("Your name").fill(`Verity ${i}`);
    await scripted.getByLabel("Your email address").fill("verity.rusk@volunteers.marrowby.example");
    await scripted.getByRole("button", { name: "Join in" }).click();
    await expect(scripted.getByRole("status")).toContainText("One more step");
  }
  await scripted.context().close();
});

test("a source that would change too much waits for somebody", async ({ browser }) => {
  const tom = await person(browser, "tom");
  const cases = await sheetOf(tom, "Display cases");
  await tom.goto(`/sheets/${cases}/bring?from=source`);
  await expect(tom.getByText(/The sheet follows display-cases.csv/)).toBeVisible();
  await tom.getByLabel("per cent of the rows").fill("0");
  await tom.getByRole("button", { name: "Change it" }).click();
  await expect(tom.getByText(/nothing new|would change|\d+ changed/).first()).toBeVisible();
});
