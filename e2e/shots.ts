import { type Page, test } from "@playwright/test";
import { ask, signIn } from "./museum";

const csv = `Booking;Guest;Guest email;Visit on;Guide;Group size
B-1;Ida Fell;ida@fell.example;04/04/2027;Rhoda Vance;12
B-2;Otto Grange;otto@grange.example;05/04/2027;Rhoda Vance;8
B-3;Pia Holt;pia@holt.example;04/04/2027;Clem Dell;30
B-4;Quentin Isley;quentin(at)isley.example;04/04/2027;Clem Dell;5
B-5;Tamsin Wick;tamsin@wick.example;soon;Clem Dell;9
`;

async function shoot(page: Page, name: string) {
  await page.waitForTimeout(700);
  await page.screenshot({ path: `../docs/screenshots/${name}.png` });
}

test("the main views", async ({ page }) => {
  test.setTimeout(180_000);
  await signIn(page, "ines");
  const loans = (await ask<{ id: string; name: string }[]>(page, "GET", "/sheets")).find((s) => s.name === "Outgoing loans")?.id;
  const rule = (await ask<{ id: string }[]>(page, "GET", `/sheets/${loans}/rules`))[0].id;
  const template = (await ask<{ id: string; sheet: string; name: string }[]>(page, "GET", "/templates")).find(
    (t) => t.sheet === loans && t.name === "Return",
  )?.id;
  await page.goto("/");
  await shoot(page, "today");
  await page.emulateMedia({ colorScheme: "dark" });
  await shoot(page, "today-dark");
  await page.emulateMedia({ colorScheme: "light" });
  await page.goto(`/sheets/${loans}`);
  await page.getByRole("rowheader", { name: "LN-0314" }).click();
  await page.keyboard.press("ArrowRight");
  await shoot(page, "sheet");
  const row = (
    await ask<{ rows: { id: string; name: string }[] }>(page, "POST", `/sheets/${loans}/rows/query`, { offset: 0, limit: 50 })
  ).rows.find((r) => r.name === "LN-0320")?.id;
  await page.goto(`/sheets/${loans}?row=${row}`);
  await shoot(page, "row");
  await page.goto(`/sheets/${loans}/rules/${rule}`);
  await page.getByRole("button", { name: /^Condition/ }).click();
  await shoot(page, "rule");
  await page.goto(`/templates/${loans}/${template}`);
  await shoot(page, "template");
  const email = (await ask<{ lines: { id: string }[] }>(page, "GET", `/log?limit=1&sheet=${loans}&state=accepted`)).lines[0].id;
  await page.goto(`/log?email=${email}`);
  await shoot(page, "log");
  await page.goto("/setup/practice");
  await page.getByRole("row").nth(3).getByRole("button").click();
  await shoot(page, "practice");
  await page.goto("/sheets/new");
  await page.getByLabel("CSV file").setInputFiles({
    name: "Group visits.csv",
    mimeType: "text/csv",
    buffer: Buffer.from(csv),
  });
  await shoot(page, "import");
});
