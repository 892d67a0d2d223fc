import AxeBuilder from "@axe-core/playwright";
import { expect, type Page, test } from "@playwright/test";
import { ask, signIn } from "./museum";

// What opens over the views, light and dark: menus, pickers, slips and dialogs have names, are in order, and can be read.
async function check(page: Page, name: string, whole: boolean, look: "light" | "dark") {
  await page.emulateMedia({ colorScheme: look, reducedMotion: "reduce" });
  await page.waitForTimeout(100);
  const axe = new AxeBuilder({ page }).setLegacyMode(true).options({ iframes: false, resultTypes: ["violations"] });
  // What is not a colour is the same in both.
  if (look === "dark") axe.withRules(["color-contrast"]);
  for (const part of [".pop", ".slip", "[role=dialog]", "[role=menu]"])
    if ((await page.locator(part).count()) > 0 && !whole) axe.include(part);
  const bad = (await axe.analyze()).violations.filter((v) => v.impact !== "minor");
  const words = bad.map(
    (v) => `${name}, ${look}: ${v.id}: ${v.nodes.map((n) => `${n.target} ${n.failureSummary}`).join(" | ")}`,
  );
  expect.soft(words).toEqual([]);
}

test("axe finds nothing in what opens, light and dark", async ({ page }) => {
  test.setTimeout(900_000);
  page.setDefaultTimeout(8_000);
  page.on("dialog", (d) => void d.accept()); // pages are left unsaved
  await signIn(page, "ines");
  const loans = (await ask<{ id: string; name: string }[]>(page, "GET", "/sheets")).find(
    (s) => s.name === "Outgoing loans",
  )?.id;
  const rule = (await ask<{ id: string }[]>(page, "GET", `/sheets/${loans}/rules`))[0]?.id;
  const template = (await ask<{ id: string; sheet: string }[]>(page, "GET", "/templates")).find(
    (t) => t.sheet === loans,
  )?.id;
  const row = (
    await ask<{ rows: { id: string }[] }>(page, "POST", `/sheets/${loans}/rows/query`, { offset: 0, limit: 1 })
  ).rows[0]?.id;
  // What opens: menus, pickers, slips and dialogs.
  const button = (name: RegExp | string) => page.getByRole("button", { name }).first();
  const press =
    (...names: (RegExp | string)[]) =>
    async () => {
      for (const n of names) await button(n).click();
    };
  const packing =
    (await ask<{ id: string; held?: number }[]>(page, "GET", `/sheets/${loans}/rules`)).find((r) => r.held)?.id ??
    rule;
  const states: [name: string, path: string, act: () => Promise<void>][] = [
    ["help", "/", () => page.keyboard.press("?")],
    [
      "search",
      "/",
      async () => {
        await page.keyboard.press("s");
        await page.getByRole("textbox", { name: "Search" }).fill("LN-03");
      },
    ],
    ["the person's menu", "/", press("Ines Karne")],
    ["start", "/start", async () => {}],
    ["sheet acts", "/sheets", press("Change …")],
    ["delete a sheet", "/sheets", press("Change …", "Delete …")],
    ["filter", `/sheets/${loans}`, press(/all rows/)],
    ["sorting", `/sheets/${loans}`, press(/entry/)],
    ["views", `/sheets/${loans}`, press(/a saved view/)],
    [
      "a column's head",
      `/sheets/${loans}`,
      async () => {
        await page.getByRole("rowheader", { name: /^LN-0301/ }).click();
        await page.keyboard.press("ArrowRight");
        await page.keyboard.press("ArrowUp");
        await page.keyboard.press("Enter");
      },
    ],
    [
      "find",
      `/sheets/${loans}`,
      async () => {
        await page.getByRole("rowheader", { name: /^LN-0301/ }).click();
        await page.keyboard.press("Control+f");
      },
    ],
    [
      "editing a cell",
      `/sheets/${loans}`,
      async () => {
        await page.getByRole("rowheader", { name: /^LN-0301/ }).click();
        await page.keyboard.press("ArrowRight");
        await page.keyboard.press("Enter");
      },
    ],
    ["a formula", `/sheets/${loans}?slip=columns`, press(/^Days to return, calculated/)],
    ["fixing a cell in a slip", `/sheets/${loans}?row=${row}`, press(/^Contact: /)],
    ["an email to come", `/sheets/${loans}?row=${row}`, press(/Return reminder/)],
    ...["/trigger/offsets", "/trigger/column", "/condition", "/send/0/template", "/to"].map(
      (place): [string, string, () => Promise<void>] => [
        `the blank ${place}`,
        `/sheets/${loans}/rules/${rule}`,
        () => page.locator(`[data-place='${place}']`).first().click(),
      ],
    ),
    ["rows that cannot be judged", `/sheets/${loans}/rules/${rule}`, press(/cannot be judged/)],
    ["past dates", `/sheets/${loans}/rules/${rule}`, press(/past dates? stays?/)],
    ["copy a rule", `/sheets/${loans}/rules/${rule}`, press("Copy this rule …")],
    [
      "a template beside a rule",
      `/sheets/${loans}/rules/${rule}`,
      async () => {
        await page.locator("[data-place='/send/0/template']").first().click();
        await button("read and change it here").click();
      },
    ],
    [
      "leaving a rule",
      `/sheets/${loans}/rules/new`,
      async () => {
        await page.getByLabel("Name of the rule").fill("Not yet");
        await page.getByRole("link", { name: "Log", exact: true }).click();
      },
    ],
    ["held", `/sheets/${loans}/held/${packing}`, async () => {}],
    [
      "a held email",
      `/sheets/${loans}/held/${packing}`,
      async () => {
        await page.getByRole("table").getByRole("button").first().click();
      },
    ],
    [
      "a field",
      `/templates/${loans}/${template}`,
      async () => {
        await page.locator(".chip").first().click();
      },
    ],
    ["insert", `/templates/${loans}/${template}`, press("Insert")],
    ["versions", `/templates/${loans}/${template}`, press("Versions")],
    ["more tests", `/templates/${loans}/${template}`, press("More tests …")],
    ["a template for which sheet", "/templates", press("Write a template")],
    ["the log's filter", "/log", press(/everything/)],
    [
      "a change of the calendar",
      "/setup/calendar",
      async () => {
        await page.getByRole("checkbox", { name: "Friday" }).uncheck();
        await page.getByRole("button", { name: /^Save/ }).first().waitFor();
      },
    ],
    ["a sender", "/setup/senders", press("change")],
    ["what a sender sends", "/setup/senders", press("what it sends")],
    ["a signature", "/setup/senders", press("signature")],
    [
      "a file of rows",
      "/sheets/new",
      async () => {
        await page.getByLabel("File of rows").setInputFiles({
          name: "Ringers.csv",
          mimeType: "text/csv",
          buffer: Buffer.from("Ringer,Email,Rings on\nR-1,a@ringers.example,03/04/2027\nR-1,b.ringers.example,soon\n"),
        });
        await button("Make a sheet of 2 rows").waitFor();
      },
    ],
  ];
  for (const [name, path, act] of states) {
    await page.goto(path);
    await expect(page.locator("main :is(h1, h2, h3)").first()).toBeVisible();
    await page.waitForTimeout(150);
    await test.step(name, act);
    for (const look of ["light", "dark"] as const) await check(page, name, ["start", "held"].includes(name), look);
  }
});
