import { readFileSync } from "node:fs";
import { expect, type Page, test } from "@playwright/test";
import { ask, mails, signIn, tabOnTo } from "./museum";

// The first hour of somebody new: from a file of 20 rows with blemishes to the first email that goes by itself; with the
// mouse, whose clicks, keys and pages are counted and kept in docs/first-hour.md, and by keyboard alone.
test.describe.configure({ mode: "serial", timeout: 720_000 }); // days pass, with all their emails

const guests = [
  "Ida Fell",
  "Otto Grange",
  "Pia Holt",
  "Quentin Isley",
  "Tamsin Wick",
  "Umar Sale",
  "Vera Holm",
  "Will Yarrow",
  "Xenia Dove",
];
const day = (t: Date, days: number) => new Date(t.getTime() + days * 86_400_000);
const slashed = (t: Date) => t.toISOString().slice(0, 10).split("-").reverse().join("/");
const clock = async (page: Page) =>
  new Date((await ask<{ clock: { now: string } }>(page, "GET", "/session")).clock.now);
const sevenBefore = 7; // days; when a new rule about a date writes

// A day early in a month, whose emails are still to come: in a file, its month could be its day.
async function firstVisit(page: Page) {
  let visit = day(await clock(page), sevenBefore + 1);
  while (visit.getUTCDate() > 7) visit = day(visit, 1);
  return visit;
}
const moveTo = async (page: Page, t: Date) => {
  const at = `${t.toISOString().slice(0, 10)}T09:05:00Z`;
  await ask(page, "POST", "/clock", { to: "instant", at });
};

// Visits of a week, with what a file of somebody else has: a booking that stands twice, one without an
// address, one without a name, a date that nobody can read, and a blank line.
function visits(first: Date, name: string) {
  const lines = ["Booking;Guest;Guest email;Visit on;Group size"];
  for (let i = 1; i <= 20; i++) {
    const guest = guests[i % guests.length] ?? "";
    const email = i === 4 ? "" : `${guest.toLowerCase().replace(" ", ".")}.${i}@visits.example`;
    const on = i === 7 ? "after Easter" : slashed(day(first, i % 6));
    lines.push(`${i === 13 ? "B-12" : `B-${i}`};${i === 9 ? "" : guest};${email};${on};${i + 3}`);
    if (i === 15) lines.push(";;;;");
  }
  return { name: `${name}.csv`, mimeType: "text/csv", buffer: Buffer.from(lines.join("\n")) };
}

type Count = { clicks: number; keys: number; pages: number };
// Counts what a person does: clicks, keys pressed, and pages that come.
async function counted(page: Page): Promise<Count> {
  const n: Count = { clicks: 0, keys: 0, pages: 0 };
  await page.exposeFunction("counted", (what: "clicks" | "keys") => n[what]++);
  await page.addInitScript(() => {
    const tell = (what: string) => void (window as unknown as { counted: (w: string) => void }).counted(what);
    // At the document: a click at what has just moved away is stopped before it, and is made once more.
    document.addEventListener("click", (e) => e.isTrusted && e.detail > 0 && tell("clicks"), true);
    window.addEventListener(
      "keydown",
      (e) => !e.repeat && !["Shift", "Control", "Alt"].includes(e.key) && tell("keys"),
      true,
    );
  });
  let at = "";
  page.on("framenavigated", (f) => {
    if (f !== page.mainFrame()) return;
    const { pathname } = new URL(f.url());
    // A rule or template that has just been saved has an address of its own; its page is the same.
    const same =
      pathname.replace(/[^/]+$/, "") === at.replace(/new$/, "") && at.endsWith("/new") && /(rules|templates)/.test(at);
    if (pathname !== at && !same) n.pages++;
    at = pathname;
  });
  return n;
}

// What was counted is printed; the documentation says how much it may be.
function kept(how: string, n: Count) {
  console.log(`The first hour ${how}: ${n.clicks} clicks, ${n.keys} keys, ${n.pages} pages`);
  const line = readFileSync("../docs/first-hour.md", "utf8")
    .split("\n")
    .find((l) => l.startsWith(`| ${how} |`));
  const [clicks = 0, keys = 0, pages = 0] = (line ?? "").split("|").slice(2, 5).map(Number);
  expect(n.clicks, "clicks").toBeLessThanOrEqual(clicks);
  expect(n.keys, "keys").toBeLessThanOrEqual(keys);
  expect(n.pages, "pages").toBeLessThanOrEqual(pages);
}

test("with the mouse: counted", async ({ page }) => {
  await signIn(page, "ines");
  const n = await counted(page);
  await page.reload();
  n.pages = 0;

  await page.getByRole("link", { name: "Sheets", exact: true }).click();
  await page.getByRole("link", { name: "New sheet" }).click();
  const first = await firstVisit(page);
  const file = visits(first, "Spring visits");
  const chooser = page.waitForEvent("filechooser");
  await page.getByLabel("File of rows").click();
  await (await chooser).setFiles(file);
  await expect(page.getByText("a Booking that stood before")).toBeVisible();
  await page
    .getByRole("group", { name: "Order of the dates in Visit on" })
    .getByRole("button", { name: "day" })
    .click();
  await page.getByRole("button", { name: "Make a sheet of 20 rows" }).click();
  const imported = page.getByRole("complementary", { name: "What was imported" });
  await expect(imported).toContainText("20 rows added");
  await expect(imported).toContainText("1 blank line");
  await imported.getByRole("link", { name: "Remind of Visit on" }).click();

  // The rule has its date and its address; it asks for what the email says.
  await page.locator("[data-place='/send/0/template']").click();
  const letter = page.getByRole("complementary", { name: "A new template" });
  await expect(letter.getByRole("textbox", { name: "Subject" })).toBeFocused();
  await page.keyboard.type("Your visit on [visit");
  await page.keyboard.press("Enter"); // the field
  await page.keyboard.press("Enter"); // and on to the text
  await page.keyboard.type("We look forward to you.");
  await letter.getByRole("button", { name: "Save" }).click();

  // What cannot be judged is told before it is switched on, and is fixed there.
  await page
    .getByRole("button", { name: /2 rows cannot be judged/ })
    .first()
    .click();
  for (const [row, cell, value] of [
    ["B-4", "Guest email", "quentin.isley@visits.example"],
    ["B-7", "Visit on", slashed(day(first, 3))],
  ] as const) {
    await page.getByRole("listitem").filter({ hasText: row }).getByRole("button", { name: /^Fix/ }).click();
    const field = page
      .getByRole("complementary", { name: `Row ${row}` })
      .getByRole("textbox", { name: cell, exact: true });
    await expect(field).toBeFocused();
    await page.keyboard.press("Control+a");
    await page.keyboard.type(value);
    await page.keyboard.press("Enter");
    await expect(field).toHaveCount(0);
    await page.keyboard.press("Escape");
  }
  await expect(page.getByRole("button", { name: /cannot be judged/ })).toHaveCount(0);
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: /^Switch on/ }).click();
  await expect(page.getByRole("button", { name: /^Pause/ })).toBeVisible();

  // The first run is held until somebody has reviewed it.
  await moveTo(page, day(first, -sevenBefore));
  await page.getByRole("link", { name: "Today", exact: true }).click();
  await page
    .getByRole("listitem")
    .filter({ hasText: "Spring visits" })
    .getByRole("button", { name: "Review" })
    .click();
  await page.getByRole("button", { name: /^Send \d+ emails? to/ }).click();
  await expect(page.getByRole("heading", { name: /Nothing waits for you/ })).toBeVisible();

  // What comes the day after goes by itself.
  const sent = (await mails(page, "Your visit on")).total;
  await moveTo(page, day(first, 1 - sevenBefore));
  await expect.poll(async () => (await mails(page, "Your visit on")).total).toBeGreaterThan(sent);

  kept("with the mouse", n);
});

test("by keyboard alone: counted", async ({ page }) => {
  await signIn(page, "ines");
  const n = await counted(page);
  await page.reload();
  await expect(page.getByRole("heading", { level: 1 })).toBeVisible();
  n.pages = 0;
  const press = (...all: string[]) =>
    all.reduce((before, k) => before.then(() => page.keyboard.press(k)), Promise.resolve());
  const tabTo = (role: "button" | "link", name: RegExp) => tabOnTo(page, page.getByRole(role, { name }));

  await press("g", "s");
  await expect(page.getByRole("heading", { name: /^Sheets/ })).toBeVisible();
  await tabTo("link", /^New sheet$/);
  await press("Enter");
  await expect(page.getByLabel("File of rows")).toBeVisible();
  await tabOnTo(page, page.getByLabel("File of rows"));
  const first = await firstVisit(page);
  const chooser = page.waitForEvent("filechooser");
  await press("Space");
  await (await chooser).setFiles(visits(first, "Summer visits"));
  await expect(page.getByText("a Booking that stood before")).toBeVisible();
  await tabTo("button", /^day$/);
  await press("Enter");
  await tabTo("button", /^Make a sheet of 20 rows$/);
  await press("Enter");
  await expect(page.getByRole("complementary", { name: "What was imported" })).toContainText("20 rows added");
  await tabTo("link", /^Remind of Visit on$/);
  await press("Enter");
  await expect(page.locator("[data-place='/send/0/template']")).toBeVisible();
  await tabOnTo(page, page.locator("[data-place='/send/0/template']"));
  await press("Enter");
  await expect(page.getByRole("textbox", { name: "Subject" })).toBeFocused();
  await page.keyboard.type("Your visit on [visit");
  await press("Enter", "Enter");
  await page.keyboard.type("We look forward to you.");
  await press("Control+s");
  await expect(page.getByRole("complementary", { name: "A new template" })).toHaveCount(0);

  await tabTo("button", /^2 rows cannot be judged/);
  await press("Enter");
  await expect(page.getByRole("complementary", { name: "Rows that cannot be judged" })).toBeVisible();
  for (const [row, value] of [
    ["B-4", "quentin.isley@visits.example"],
    ["B-7", slashed(day(first, 3))],
  ] as const) {
    await tabTo("button", new RegExp(`^Fix ${row}$`));
    await press("Enter");
    const slip = page.getByRole("complementary", { name: `Row ${row}` });
    await expect(slip.getByRole("textbox")).toBeFocused();
    await press("Control+a");
    await page.keyboard.type(value);
    await press("Enter");
    await expect(slip.getByRole("textbox")).toHaveCount(0);
    await press("Escape");
    await expect(slip).toHaveCount(0);
    // What is fixed goes from the list.
    await expect(page.getByRole("button", { name: `Fix ${row}` })).toHaveCount(0);
  }
  await press("Escape");
  await tabTo("button", /^Switch on/);
  await press("Enter");
  await expect(page.getByRole("button", { name: /^Pause/ })).toBeVisible();

  await moveTo(page, day(first, -sevenBefore));
  await press("g", "t");
  await expect(
    page.getByRole("listitem").filter({ hasText: "Summer visits" }).getByRole("button", { name: "Review" }),
  ).toBeVisible();
  await tabTo("button", /^Review$/);
  await press("Enter");
  await tabTo("button", /^Send \d+ emails? to/);
  await press("Enter");
  await expect(page.getByRole("heading", { name: /Nothing waits for you/ })).toBeVisible();
  const sent = (await mails(page, "Your visit on")).total;
  await moveTo(page, day(first, 1 - sevenBefore));
  await expect.poll(async () => (await mails(page, "Your visit on")).total).toBeGreaterThan(sent);
  expect(n.clicks).toBe(0);
  kept("by keyboard alone", n);
});
