import { expect, type Page, test } from "@playwright/test";
import { ask, person } from "./museum";

// The columns of a sheet, and who may do what with them.
test.describe.configure({ mode: "serial" });

type Column = {
  id: string;
  name: string;
  type: string;
  width: number;
  hidden: boolean;
  options: { id: string; name: string }[];
};
type Sheet = { id: string; key: string; columns: Column[]; frozen: number };
type RowPage = { total: number; rows: { id: string; name: string; cells: { text: string; bad?: boolean }[] }[] };

const csv = `Bell;Ringer;Ringer email;Struck on;Tone;Weight
B-1;Ada Quill;ada.quill@volunteers.marrowby.example;03/14/2027;clear;410
B-2;Ben Harrow;ben.harrow@volunteers.marrowby.example;03/02/2027;dull;88.5
B-3;Cass Orme;cass.orme@volunteers.marrowby.example;03/05/2027;clear;1200
B-4;Dora Sallow;dora.sallow@volunteers.marrowby.example;04/05/2027;dull;96
B-5;Eve Marsh;eve.marsh@volunteers.marrowby.example;;clear;75
B-6;Finn Rook;finn.rook@volunteers.marrowby.example;05/05/2027;dull;64
B-7;Gil Tarn;gil.tarn@volunteers.marrowby.example;05/06/2027;clear;33
B-8;Hal Isley;hal.isley@volunteers.marrowby.example;05/07/2027;clear;21
`;

let page: Page;
let sheet = "";
test.beforeAll(async ({ browser }) => {
  page = await person(browser, "tom");
});
test.afterAll(() => page.close());

const it = () => ask<Sheet>(page, "GET", `/sheets/${sheet}`);
const rows = async (column: number) =>
  (await ask<RowPage>(page, "POST", `/sheets/${sheet}/rows/query`, { offset: 0, limit: 100 })).rows.map(
    (r) => r.cells[column]?.text,
  );
const head = (name: string) => page.getByRole("columnheader", { name }).getByRole("button");
const at = (key: string) => page.getByRole("rowheader", { name: new RegExp(`^${key}\\b`) });
const slip = () => page.getByRole("complementary", { name: "Columns" });
const save = async () => {
  await page.getByRole("button", { name: /^Change the columns/ }).click();
  await expect(page.getByText("The columns are changed.").last()).toBeVisible();
};

test("a file is looked at, its columns are named, retyped and not imported, and it becomes a sheet", async () => {
  await page.goto("/sheets/new");
  await page
    .getByLabel("File of rows")
    .setInputFiles({ name: "Bells.csv", mimeType: "text/csv", buffer: Buffer.from(csv) });
  await expect(page.getByLabel("Type of Struck on")).toHaveValue("date");
  await expect(page.getByLabel("Order of the dates in Struck on")).toHaveValue("month-day-year");
  await expect(page.getByLabel("Type of Tone")).toHaveValue("choice");
  await page.getByLabel("Name of column 2").fill("Who rings");
  await page.getByLabel("Type of Tone").selectOption("number");
  await expect(page.getByText("line 2: clear")).toBeVisible();
  await page.getByLabel("Type of Tone").selectOption("choice");
  await page.getByLabel("Don’t import Weight").check();
  await page.getByRole("button", { name: "Make a sheet of 8 rows" }).click();
  await expect(at("B-1")).toBeVisible();
  sheet = new URL(page.url()).pathname.split("/")[2] ?? "";
  expect((await it()).columns.map((c) => `${c.name} ${c.type}`)).toEqual([
    "Bell text",
    "Who rings text",
    "Ringer email email",
    "Struck on date",
    "Tone choice",
  ]);
  expect((await rows(3)).slice(0, 2)).toEqual(["14 Mar 2027", "2 Mar 2027"]);
});

test("the heads by keyboard: sort, hide, freeze", async () => {
  await at("B-1").click();
  await page.keyboard.press("ArrowRight");
  await page.keyboard.press("ArrowUp");
  await expect(head("Who rings")).toBeFocused();
  await page.keyboard.press("ArrowRight");
  await page.keyboard.press("ArrowRight");
  await expect(head("Struck on")).toBeFocused();
  await page.keyboard.press("Enter");
  await expect(page.getByRole("menuitem", { name: "Sort ascending", exact: true })).toBeFocused();
  await page.keyboard.press("ArrowDown");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("columnheader", { name: "Struck on" })).toHaveAttribute("aria-sort", "descending");
  await expect(page.getByRole("rowheader").first()).toHaveText(/B-8/);
  await page.goto(`/sheets/${sheet}`);
  await head("Tone").click();
  await page.getByRole("menuitem", { name: "Hide" }).click();
  await expect(page.getByRole("columnheader", { name: "Tone" })).toHaveCount(0);
  await head("Who rings").click();
  await page.getByRole("menuitem", { name: "Freeze up to here" }).click();
  await expect.poll(async () => (await it()).frozen).toBe(1);
  // What is kept in sight stays where it is while the others slide.
  const box = () => page.getByRole("columnheader", { name: "Who rings" }).boundingBox();
  const was = await box();
  await page.getByRole("grid").evaluate((g) => g.scrollBy(200, 0));
  expect((await box())?.x).toBe(was?.x);
  await head("Who rings").click();
  await page.getByRole("menuitem", { name: "Unfreeze" }).click();
  await expect.poll(async () => (await it()).frozen).toBe(0);
  await expect(page.getByRole("grid")).toBeFocused();
});

test("a head's edge makes its column wider", async () => {
  const edge = page.getByRole("columnheader", { name: "Who rings" }).getByTitle("Drag to change the width");
  const b = await edge.boundingBox();
  if (!b) throw new Error("no edge");
  await page.mouse.move(b.x + 2, b.y + 10);
  await page.mouse.down();
  await page.mouse.move(b.x + 82, b.y + 10, { steps: 4 });
  await page.mouse.up();
  const before = (await it()).columns[1]?.width;
  await expect.poll(async () => (await it()).columns[1]?.width ?? 0).toBeGreaterThan(200);
  expect(before).toBeDefined();
});

test("columns renamed, put in another order, shown again, with options in theirs", async () => {
  await page.goto(`/sheets/${sheet}?slip=columns`);
  await slip().getByRole("button", { name: "Tone, choice, hidden" }).click();
  await slip().getByLabel("hidden").uncheck();
  await slip().getByLabel("Option 1").fill("bright");
  await slip().getByRole("button", { name: "up", exact: true }).last().click();
  await slip().getByLabel("New option").fill("cracked");
  await slip().getByLabel("New option").press("Enter");
  await slip().getByRole("button", { name: "Tone further up" }).click();
  await save();
  const c = (await it()).columns;
  expect(c.map((x) => x.name)).toEqual(["Bell", "Who rings", "Ringer email", "Tone", "Struck on"]);
  expect(c[3]?.options.map((o) => o.name)).toEqual(["dull", "bright", "cracked"]);
  expect(await rows(3)).toEqual(["bright", "dull", "bright", "dull", "bright", "dull", "bright", "bright"]);
});

test("a column deleted is restored with all it held", async () => {
  await slip().getByRole("button", { name: "Who rings, text" }).click();
  await slip().getByRole("button", { name: "Delete this column" }).click();
  await expect(page.getByText("Deletes Who rings: 8 filled cells.")).toBeVisible();
  await save();
  await expect(page.getByRole("columnheader", { name: "Who rings" })).toHaveCount(0);
  await slip().getByRole("button", { name: "Restore" }).click();
  await expect(page.getByRole("columnheader", { name: "Who rings" })).toBeVisible();
  const i = (await it()).columns.findIndex((x) => x.name === "Who rings");
  expect((await rows(i))[0]).toBe("Ada Quill");
});

test("what a column is for is said once and taken for a new rule and a new letter", async () => {
  await slip().getByLabel("Its address stands in").selectOption({ label: "Ringer email" });
  await slip().getByLabel("The name of whom it concerns").selectOption({ label: "Who rings" });
  await expect
    .poll(async () => (await ask<{ nameColumn: string }>(page, "GET", `/sheets/${sheet}`)).nameColumn)
    .not.toBe("");
  await page.goto(`/sheets/${sheet}/rules/new`);
  await expect(page.locator("[data-place='/to']")).toHaveText("ringer email");
});

test("a locked column is written by coordinators alone; a reader writes nothing", async ({ browser }) => {
  await page.goto(`/sheets/${sheet}?slip=columns`);
  await slip().getByRole("button", { name: "Tone, choice" }).click();
  await slip().getByLabel("only coordinators change it").check();
  await save();
  const rosa = await person(browser, "rosa");
  await rosa.goto(`/sheets/${sheet}`);
  await rosa.getByRole("gridcell", { name: "dull" }).first().click();
  await rosa.keyboard.type("bright");
  await expect(rosa.getByText("Tone is locked; a coordinator changes it.").first()).toBeVisible();
  const tone = (await it()).columns.findIndex((c) => c.name === "Tone");
  expect((await rows(tone))[1]).toBe("dull");
  // Around it, she writes: a paste over both passes the locked one over.
  await rosa.getByRole("gridcell", { name: "ben.harrow@volunteers.marrowby.example" }).click();
  await rosa.evaluate(() => navigator.clipboard.writeText("b.harrow@volunteers.marrowby.example\tcracked"));
  await rosa.keyboard.press("Control+v");
  await expect(rosa.getByText("Not written: Tone, which is calculated or locked.")).toBeVisible();
  await expect(rosa.getByRole("gridcell", { name: "b.harrow@volunteers.marrowby.example" })).toBeVisible();
  expect((await rows(tone))[1]).toBe("dull");
  await rosa.context().close();
  const hugh = await person(browser, "hugh");
  await hugh.goto(`/sheets/${sheet}`);
  await hugh.getByRole("gridcell", { name: "Cass Orme" }).click();
  await hugh.keyboard.type("X");
  await hugh.keyboard.press("Enter");
  await hugh.keyboard.press("Delete");
  await expect(hugh.getByRole("gridcell", { name: "Cass Orme" })).toBeVisible();
  await expect(hugh.getByRole("button", { name: /Import|Columns|Add a row/ })).toHaveCount(0);
  await hugh.context().close();
});

test("a file again whose dates stand in another order", async () => {
  await page.goto(`/sheets/${sheet}/bring`);
  await page.getByLabel("File of rows").setInputFiles({
    name: "Bells.csv",
    mimeType: "text/csv",
    buffer: Buffer.from("Bell;Struck on\nB-1;16/03/2027\nB-2;02/03/2027\n"),
  });
  // The column writes the month first; the file cannot.
  await expect(page.getByLabel("Order of the dates in Struck on")).toHaveValue("day-month-year");
  await page.getByLabel("Order of the dates in Struck on").selectOption("month-day-year");
  await expect(page.getByText("line 2: 16/03/2027")).toBeVisible();
  await page.getByLabel("Order of the dates in Struck on").selectOption("day-month-year");
  await page.getByLabel("keep rows as they are").waitFor({ state: "detached" });
  await page.getByRole("button", { name: "See what 2 rows would change" }).click();
  await expect(page.getByRole("region", { name: "The file" }).getByRole("row", { name: /B-1/ })).toContainText(
    "03/16/2027",
  );
  await page.getByRole("checkbox", { name: "keep rows as they are that the file does not have" }).check();
  await page.getByRole("button", { name: "Change 1" }).click();
  await expect(page.getByRole("complementary", { name: "What was imported" })).toContainText(
    "1 row changed, in 1 cell",
  );
  const i = (await it()).columns.findIndex((c) => c.name === "Struck on");
  expect((await rows(i)).slice(0, 2)).toEqual(["16 Mar 2027", "2 Mar 2027"]);
});

test("broken files say where, and change nothing", async () => {
  await page.goto(`/sheets/${sheet}/bring`);
  for (const [name, data, words] of [
    ["Bells.csv", "Bell;Who rings\nB-1;Ada;Quill;x\n", /Line 2, column 9/],
    ["Bells.csv", 'Bell;Who rings\nB-1;"Ada\n', /line 2/i],
    ["Bells.xlsx", "PK\u0003\u0004 not a workbook", /cannot be read|not a workbook/i],
    ["Bells.csv", "", "The file is empty"],
  ] as const) {
    await page.getByLabel("File of rows").setInputFiles({ name, mimeType: "text/csv", buffer: Buffer.from(data) });
    await expect(page.getByRole("alert").filter({ hasText: words })).toBeVisible();
  }
  expect((await rows(0)).length).toBe(8);
});

test("a selection exported as CSV, with its emails, and made harmless", async () => {
  const i = (await it()).columns.findIndex((c) => c.name === "Who rings");
  await ask(page, "PATCH", `/sheets/${sheet}/rows/by-key/B-3`, { cells: { "Who rings": "=1+2" } });
  await page.goto(`/sheets/${sheet}`);
  await at("B-2").click();
  await page.keyboard.press("Shift+ArrowDown");
  await page.keyboard.press("Shift+Space");
  await page.getByRole("button", { name: "Export" }).click();
  await page.getByRole("radio", { name: /^CSV/ }).check();
  await page.getByLabel("with the last and the next email of each row").check();
  const waiting = page.waitForEvent("download");
  await page.getByRole("link", { name: "Export 2 rows" }).click();
  const stream = await (await waiting).createReadStream();
  let text = "";
  for await (const chunk of stream) text += String(chunk);
  const lines = text
    .replace(/^\uFEFF/, "")
    .trim()
    .split(/\r?\n/);
  expect(lines).toHaveLength(3);
  expect(lines[0]).toMatch(/Bell.*Last email.*Next email/);
  expect(lines[2]).toContain("'=1+2");
  expect((await rows(i))[2]).toBe("=1+2");
});

test("a token is made, opens this sheet alone, shows its use, and is revoked", async () => {
  await page.goto(`/sheets/${sheet}/bring?from=programs`);
  await page.getByLabel("A token for").fill("The bell logger");
  await page.getByRole("button", { name: "Make the token" }).click();
  const secret = (await page.getByRole("status").locator("code").textContent()) ?? "";
  const call = (path: string, init: object = {}) =>
    page.request.fetch(`/api${path}`, { headers: { Authorization: `Bearer ${secret}` }, ...init });
  const line = page.getByRole("row", { name: /The bell logger/ });
  await expect(line).toContainText("never");
  expect((await call(`/sheets/${sheet}/rows?limit=2`)).status()).toBe(200);
  expect((await call("/sheets")).status()).toBe(403);
  const other = (await ask<{ id: string }[]>(page, "GET", "/sheets")).find((s) => s.id !== sheet)?.id ?? "";
  expect((await call(`/sheets/${other}/rows?limit=2`)).status()).toBe(404);
  await page.reload();
  await expect(line).not.toContainText("never");
  await expect(page.getByText(secret)).toHaveCount(0);
  await line.getByRole("button", { name: "Revoke" }).click();
  await expect(line).toContainText("revoked");
  expect((await call(`/sheets/${sheet}/rows?limit=2`)).status()).toBe(401);
});
