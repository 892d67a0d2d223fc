import { expect, type Page, test } from "@playwright/test";
import { ask, signIn } from "./museum";

// A sheet of 300 columns with sixty rules: only what is in sight is drawn, and all of it can be come to.
test.describe.configure({ mode: "serial" });

let page: Page;
let sheet = "";
test.beforeAll(async ({ browser }) => {
  page = await (await browser.newContext()).newPage();
  await signIn(page, "ines");
});
test.afterAll(async () => {
  if (sheet) await ask(page, "DELETE", `/sheets/${sheet}`);
  await page.context().close();
});

test("300 columns: drawn where one looks, reached by keys, edited at the far end", async () => {
  const heads = ["Case", "Email", ...Array.from({ length: 298 }, (_, i) => `Reading ${i + 1}`)];
  const rows = Array.from({ length: 30 }, (_, r) =>
    [`C-${r + 1}`, `keeper${r + 1}@cases.example`, ...heads.slice(2).map((_h, i) => r + i)].join(","),
  );
  await page.goto("/sheets/new");
  await page.getByLabel("File of rows").setInputFiles({
    name: "Readings.csv",
    mimeType: "text/csv",
    buffer: Buffer.from([heads.join(","), ...rows].join("\n")),
  });
  await page.getByRole("button", { name: "Make a sheet of 30 rows" }).click();
  await expect(page.getByRole("complementary", { name: "What was imported" })).toContainText("30 rows added");
  sheet = page.url().split("/").pop()?.split("?")[0] ?? "";
  // Rows that have not come yet are drawn without their cells.
  let come = () => {};
  const coming = new Promise<void>((done) => {
    come = done;
  });
  await page.route("**/rows/query", (r) => coming.then(() => r.continue()));
  await page.goto(`/sheets/${sheet}`);
  const grid = page.getByRole("grid");
  await expect(grid.locator("[data-row='5']")).toBeVisible();
  await expect(grid.locator("[data-row='5'] > *")).toHaveCount(1);
  come();
  await expect(grid.getByRole("rowheader", { name: /^C-6\b/ })).toBeVisible();
  await page.unroute("**/rows/query");
  await expect(grid).toHaveAttribute("aria-colcount", "301");
  await grid.getByRole("rowheader", { name: /^C-1\b/ }).click();
  const first = grid.getByRole("row").nth(1).getByRole("gridcell");
  expect(await first.count()).toBeLessThan(40);

  await page.keyboard.press("Control+ArrowRight");
  const last = grid.locator("[data-row='0'] [data-col='301']");
  await expect(last).toBeInViewport();
  await expect(last).toHaveAttribute("aria-colindex", "301");
  await expect(last).toHaveText("297");
  expect(await first.count()).toBeLessThan(40);
  // Its head is there, above it, and takes the keys.
  await page.keyboard.press("ArrowUp");
  const head = grid.getByRole("columnheader", { name: /^Reading 298/ });
  await expect(head.getByRole("button")).toBeFocused();
  const [h, c] = [await head.boundingBox(), await last.boundingBox()];
  expect(h?.x).toBe(c?.x);
  await page.keyboard.press("ArrowDown");
  await page.keyboard.type("1234");
  await page.keyboard.press("Enter");
  await expect(last).toHaveText("1234");
  await page.keyboard.press("Control+ArrowLeft");
  await page.keyboard.press("ArrowRight");
  await expect(grid.getByRole("gridcell", { name: "keeper1@cases.example" })).toBeInViewport();
});

test("sixty rules: the margin scrolls, and the last of them is switched and opened", async () => {
  const { columns } = await ask<{ columns: { id: string }[] }>(page, "GET", `/sheets/${sheet}`);
  const doc = { type: "doc", content: [{ type: "paragraph", content: [{ type: "text", text: "Read it again" }] }] };
  const t = await ask<{ id: string }>(page, "POST", `/sheets/${sheet}/templates`, {
    template: { name: "Reading", subject: doc, body: doc },
  });
  for (let i = 1; i <= 60; i++)
    await ask(page, "POST", `/sheets/${sheet}/rules`, {
      body: {
        name: `Above ${i}`,
        trigger: { kind: "threshold", column: columns[2]?.id, op: ">=", limit: 1000 + i },
        send: [{ template: t.id }],
        to: [{ column: columns[1]?.id }],
      },
    });
  await page.goto(`/sheets/${sheet}`);
  const last = page.getByRole("link", { name: "Above 60" });
  await last.scrollIntoViewIfNeeded();
  await expect(last).toBeInViewport();
  expect(await page.evaluate(() => document.documentElement.scrollHeight <= window.innerHeight)).toBe(true);
  await last.click();
  await expect(page.getByLabel("Name of the rule")).toHaveValue("Above 60");
});
