import { expect, type Page, test } from "@playwright/test";
import { ask, mails, ruleEditor, signIn } from "./museum";

// What the effect of a rule said before it was switched on is what has come a
// practice week later. This runs last: it moves the clock by a week.
test.describe.configure({ timeout: 600_000 });

type Named = { id: string; name: string };
type Effect = { days: { day: string; emails: number }[]; emails: number };
type Saved = { id: string; sheet: string; week: number };
let page: Page;
const sheets: Record<string, string> = {};
test.beforeAll(async ({ browser }) => {
  page = await (await browser.newContext()).newPage();
  await signIn(page, "ines");
  for (const s of await ask<Named[]>(page, "GET", "/sheets")) sheets[s.name] = s.id;
});
test.afterAll(() => page.context().close());

const { slip, more, close, begin, template, blank } = ruleEditor(
  () => page,
  (name) => sheets[name] ?? "",
);
const now = async () => new Date((await ask<{ now: string }>(page, "GET", "/today")).now);
const week = 7 * 24 * 3600_000;

// Switches the rule on that stands on the page, and gives what its effect says
// of the coming week; the rule writes at nine in London.
async function switchOn(sheet: string): Promise<Saved> {
  const on = page.getByRole("button", { name: /^Switch on/ });
  await expect(on).toBeEnabled();
  await on.click();
  await expect(page.getByRole("button", { name: /^Pause/ })).toBeVisible();
  const id = page.url().split("/").pop() ?? "";
  const of = sheets[sheet] ?? "";
  const { body } = await ask<{ body: unknown }>(page, "GET", `/sheets/${of}/rules/${id}`);
  const effect = await ask<Effect>(page, "POST", `/sheets/${of}/rules/effect`, { body, whole: true });
  const [from, hour] = [await now(), (d: string) => new Date(`${d}T09:00:00+0${d < "2027-03-28" ? 0 : 1}:00`)];
  const days = effect.days.filter((d) => hour(d.day) > from && hour(d.day).getTime() <= from.getTime() + week);
  return { id, sheet: of, week: days.reduce((n, d) => n + d.emails, 0) };
}

const counts = async (r: Saved) =>
  (await ask<{ counts: Record<string, number> }>(page, "GET", `/log?sheet=${r.sheet}&rule=${r.id}`)).counts;

test("a week later the mailbox holds what the effect of three rules said", async () => {
  await begin("Outgoing loans", "Five days", "some days before or after a date");
  await slip().getByLabel("How many").fill("5");
  await close();
  await blank("/trigger/column").click();
  await slip().getByRole("radio", { name: "Return due" }).check();
  await close();
  await template("Return");
  const dated = await switchOn("Outgoing loans");

  await begin("Volunteers", "Fridays", "on a schedule, or once on a day");
  await expect(slip().getByLabel("How it comes round")).toBeVisible();
  await close();
  await template("Rota");
  await more("only rows where …");
  await slip().getByRole("button", { name: "Only rows where …" }).click();
  await slip().getByLabel("Column", { exact: true }).selectOption({ label: "Rota day" });
  await slip().getByLabel("Monday").check();
  await close();
  const weekly = await switchOn("Volunteers");

  await begin("Outgoing loans", "Come home", "as soon as a cell becomes something");
  await slip().getByRole("radio", { name: "State" }).check();
  await close();
  await blank("/trigger/to").click();
  await slip().getByLabel("back", { exact: true }).check();
  await close();
  await template("News");
  const reacting = await switchOn("Outgoing loans");
  expect(dated.week).toBeGreaterThan(0);
  expect(weekly.week).toBeGreaterThan(0);
  expect(reacting.week).toBe(0);

  // One loan comes home, typed into the grid.
  await page.goto(`/sheets/${sheets["Outgoing loans"]}`);
  const columns = (await ask<{ columns: Named[] }>(page, "GET", `/sheets/${sheets["Outgoing loans"]}`)).columns;
  const state = columns.find((c) => c.name === "State")?.id ?? "";
  const out = await ask<{ rows: { id: string }[] }>(page, "POST", `/sheets/${sheets["Outgoing loans"]}/rows/query`, {
    filter: {
      all: [
        { column: state, op: "is", value: "out" },
        { column: columns.find((c) => c.name === "Contact email")?.id, op: "contains", value: "@fenwick" },
      ],
    },
    offset: 0,
    limit: 1,
  });
  await ask(page, "POST", `/sheets/${sheets["Outgoing loans"]}/changes`, {
    kind: "edit",
    steps: [{ op: "edit", row: out.rows[0]?.id, cells: { [state]: "back" } }],
  });

  const begun = await now();
  for (let day = 0; day < 7; day++) {
    const at = await now();
    await page.getByRole("button", { name: "+1 day" }).click();
    await expect
      .poll(async () => (await now()).getTime() - at.getTime(), { timeout: 60_000 })
      .toBeGreaterThan(23 * 3600_000);
  }
  expect((await now()).getTime() - begun.getTime()).toBeGreaterThanOrEqual(week - 60_000);

  // The first run is held: all that the effect said waits, but for what cannot go.
  for (const r of [dated, weekly, { ...reacting, week: 1 }]) {
    await expect
      .poll(async () => {
        const { held = 0, incomplete = 0, missed = 0 } = await counts(r);
        return held + incomplete + missed;
      })
      .toBe(r.week);
    const { held = 0 } = await counts(r);
    const before = (await mails(page, "")).total;
    await page.goto(`/sheets/${r.sheet}/held/${r.id}`);
    await page.getByRole("button", { name: new RegExp(`^Send ${held} emails? to `) }).click();
    await expect.poll(async () => (await counts(r)).held ?? 0).toBe(0);
    await expect.poll(async () => (await mails(page, "")).total - before).toBeGreaterThan(0);
  }
});
