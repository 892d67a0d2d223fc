import AxeBuilder from "@axe-core/playwright";
import { expect, type Page, test } from "@playwright/test";
import { ask, signIn } from "./museum";

// Nothing that is worse than minor in any state of any view, light and dark.
async function check(page: Page, name: string, look: "light" | "dark") {
  await page.emulateMedia({ colorScheme: look, reducedMotion: "reduce" });
  await page.waitForTimeout(200);
  // Letters stand in frames that run no script, the checker's own included.
  const axe = new AxeBuilder({ page }).setLegacyMode(true).options({ iframes: false, resultTypes: ["violations"] });
  // What is not a colour is the same in both.
  if (look === "dark") axe.withRules(["color-contrast"]);
  const found = await axe.analyze();
  const bad = found.violations.filter((v) => v.impact !== "minor");
  expect(
    bad.map(
      (v) =>
        `${name}, ${look}: ${v.id}: ${v.nodes
          .slice(0, 3)
          .map((n) => `${n.target} ${n.failureSummary}`)
          .join(" | ")}`,
    ),
  ).toEqual([]);
}

const looks = ["light", "dark"] as const;
test("axe finds nothing on any view, light and dark", async ({ page }) => {
  test.setTimeout(900_000);
  await page.goto("/");
  await expect(page.getByRole("button", { name: "Sign in" })).toBeVisible();
  for (const look of looks) await check(page, "sign in", look);
  await signIn(page, "ines");
  await ask(page, "POST", "/clock", { to: "next" });
  const sheets = await ask<{ id: string; name: string }[]>(page, "GET", "/sheets");
  const loans = sheets.find((s) => s.name === "Outgoing loans")?.id;
  const volunteers = sheets.find((s) => s.name === "Volunteers")?.id;
  const cases = sheets.find((s) => s.name === "Display cases")?.id;
  const form = new URL((await ask<{ address: string }>(page, "GET", `/sheets/${volunteers}/form`)).address).pathname;
  const rule = (await ask<{ id: string }[]>(page, "GET", `/sheets/${loans}/rules`))[0].id;
  const template = (await ask<{ id: string; sheet: string }[]>(page, "GET", "/templates")).find(
    (t) => t.sheet === loans,
  )?.id;
  const email = (await ask<{ lines: { id: string }[] }>(page, "GET", "/log?limit=1")).lines[0].id;
  const row = (
    await ask<{ rows: { id: string }[] }>(page, "POST", `/sheets/${loans}/rows/query`, { offset: 0, limit: 1 })
  ).rows[0].id;
  for (const [path, mark] of [
    ["/", "Today’s line"],
    ["/sheets", "Outgoing loans"],
    [`/sheets/${loans}`, "LN-0301"],
    [`/sheets/${loans}?row=${row}`, "History"],
    [`/sheets/${loans}/rules/${rule}`, "The first of them"],
    [`/sheets/${loans}/rules/new`, "a new rule of"],
    ["/templates", "Used by"],
    [`/templates/${loans}/${template}`, "As it arrives"],
    ["/log", "Showing"],
    [`/log?email=${email}`, "What became of it"],
    ["/sheets/new", "Choose a file whose first row"],
    [`/sheets/${loans}?slip=columns`, "What says what a row is"],
    [`/sheets/${loans}?slip=history`, "Undo leaves what"],
    [`/sheets/${loans}?slip=out`, "with the last and the next email"],
    [`/sheets/${loans}?cell=${row}.c1`, "It holds"],
    [`/sheets/${loans}/bring`, "Rows are matched by"],
    [`/sheets/${volunteers}/bring?from=form`, "The form is open"],
    [form, "Join in"],
    [`/sheets/${cases}/bring?from=source`, "What checking it came to"],
    [`/sheets/${loans}/bring?from=programs`, "How it asks"],
    ["/setup/programs", "Tokens"],
    ["/setup/senders", "Mail server"],
    ["/setup/calendar", "Closed days"],
    ["/setup/do-not-email", "Do-not-email list."],
    ["/setup/people", "may sign in"],
    ["/setup/practice", "Came"],
  ] as const) {
    await page.goto(path);
    await expect(page.getByText(mark).first()).toBeVisible();
    for (const look of looks) await check(page, path, look);
  }
});

test("a reader looks and changes nothing", async ({ page }) => {
  await signIn(page, "hugh");
  await page.getByRole("link", { name: "Sheets", exact: true }).click();
  await page.getByRole("link", { name: "Volunteers" }).click();
  await expect(page.getByRole("rowheader", { name: "V-0001" })).toBeVisible();
  await expect(page.getByRole("button", { name: /Add a row/ })).toHaveCount(0);
  await expect(page.getByRole("switch")).toBeDisabled();
  await page.getByRole("rowheader", { name: "V-0001" }).click();
  await page.keyboard.press("Enter");
  await expect(page.getByRole("textbox")).toHaveCount(0);
});

test("the lever stops all sending, loudly", async ({ page }) => {
  await signIn(page, "tom");
  const lever = page.getByRole("switch");
  await expect(lever).toHaveText("Sending is on");
  await lever.click();
  await expect(lever).toHaveText("All sending is off");
  await lever.click();
  await expect(lever).toHaveText("Sending is on");
});

test("in doubt: a person decides", async ({ page }) => {
  await signIn(page, "ines");
  const loans = (await ask<{ id: string; name: string }[]>(page, "GET", "/sheets")).find(
    (s) => s.name === "Outgoing loans",
  );
  await ask(page, "POST", "/clock", {
    to: "instant",
    at: "2027-04-01T09:30:00Z",
  });
  await page.goto(`/log?show=doubt&sheet=${loans?.id}`);
  await page
    .getByRole("button", { name: /Stone curlew/ })
    .first()
    .click();
  const slip = page.getByRole("complementary");
  await expect(slip.getByText("contact with the mail server was lost")).toBeVisible();
  await slip.getByRole("button", { name: "Mark as sent" }).click();
  await expect(slip.getByText("said to have gone, by Ines Karne")).toBeVisible();
});
