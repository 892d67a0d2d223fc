import { expect, type Page, test } from "@playwright/test";
import { ask, signIn } from "./museum";

// What helps: the pages behind "?", and what is printed.
type Named = { id: string; name: string };
let page: Page;
test.beforeAll(async ({ browser }) => {
  page = await (await browser.newContext()).newPage();
  await signIn(page, "ines");
});
test.afterAll(() => page.context().close());

test("help: the page of the place, its words with their pictures, and a search over all", async () => {
  await page.goto("/log");
  await expect(page.getByRole("heading", { level: 1 })).toBeVisible();
  await page.keyboard.press("?");
  const help = page.getByRole("dialog", { name: "Help" });
  await expect(help.getByRole("heading", { name: "What the words mean" })).toBeVisible();
  // A word leads to what it means, with a picture that is there.
  await help.getByRole("button", { name: "In doubt" }).click();
  await expect(help.getByRole("heading", { name: "In doubt" })).toBeInViewport();
  const pictures = help.getByRole("img");
  await expect(pictures).toHaveCount(19);
  for (const picture of await pictures.all()) {
    await picture.scrollIntoViewIfNeeded();
    await expect.poll(() => picture.evaluate((el) => (el as HTMLImageElement).naturalWidth)).toBeGreaterThan(100);
  }
  await help.getByLabel("Search the help").fill("previous row");
  await expect(help.getByRole("status")).toHaveText("1 found");
  await page.keyboard.press("Enter");
  await expect(help.getByRole("cell", { name: "previous and next row" })).toBeVisible();
  await page.keyboard.press("Escape");
  await expect(help).toHaveCount(0);
});

test("on paper: a row's slip, a rule and the log, without what is only for the screen", async () => {
  const onPaper = async (path: string, ready: RegExp) => {
    await page.goto(path);
    await expect(page.getByText(ready).first()).toBeVisible();
    await page.emulateMedia({ media: "print" });
    const clipped = await page.evaluate(() =>
      [...document.querySelectorAll("main *")]
        .filter(
          (el) => ["auto", "scroll"].includes(getComputedStyle(el).overflowY) && el.scrollHeight > el.clientHeight + 1,
        )
        .map((el) => el.className),
    );
    expect(clipped, `what scrolls on ${path}`).toEqual([]);
    await expect(page.getByRole("navigation", { name: "Places" })).toHaveCount(0);
  };
  const loans = (await ask<Named[]>(page, "GET", "/sheets")).find((s) => s.name === "Outgoing loans")?.id ?? "";
  const rows = await ask<{ rows: Named[] }>(page, "POST", `/sheets/${loans}/rows/query`, { offset: 0, limit: 5 });
  await onPaper(`/sheets/${loans}?row=${rows.rows[1]?.id}`, /Contact email/);
  await expect(page.getByRole("grid")).toHaveCount(0);
  await expect(page.getByRole("complementary").getByText("History", { exact: true })).toBeVisible();
  await page.emulateMedia({ media: "screen" });
  const rule = (await ask<Named[]>(page, "GET", `/sheets/${loans}/rules`))[0]?.id;
  await onPaper(`/sheets/${loans}/rules/${rule}`, /The first of them/);
  await expect(page.getByRole("button", { name: /^(Pause|Save)/ })).toHaveCount(0);
  await page.emulateMedia({ media: "screen" });
  await onPaper("/log", /went out/);
  // Not only the lines in view.
  const { lines } = await ask<{ lines: unknown[] }>(page, "GET", "/log?limit=100");
  expect(await page.getByRole("table", { name: "Delivery log" }).getByRole("row").count()).toBeGreaterThan(
    lines.length,
  );
  await page.emulateMedia({ media: "screen" });
});
