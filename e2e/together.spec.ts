import { expect, type Page, test } from "@playwright/test";
import { ask, person } from "./museum";

// Two people, or two tabs, at the same thing: nobody overwrites what they have
// not seen, and nothing that was typed is lost.
test.describe.configure({ mode: "serial" });

type Named = { id: string; name: string; sheet?: string };
type Made = { id: string; version: number };

test.describe("two at one rule and one template", () => {
  let ines: Page;
  let tom: Page;
  let sheet = "";
  let template: Made;
  let rule: Made;
  test.beforeAll(async ({ browser }) => {
    ines = await person(browser, "ines");
    tom = await person(browser, "tom");
    sheet = (await ask<Named[]>(ines, "GET", "/sheets")).find((s) => s.name === "Volunteers")?.id ?? "";
    const cols = (
      await ask<{ columns: { id: string; type: string }[]; address: string }>(ines, "GET", `/sheets/${sheet}`)
    ).columns;
    const date = cols.find((c) => c.type === "date")?.id ?? "";
    const doc = (text: string) => ({
      type: "doc",
      content: [{ type: "paragraph", content: [{ type: "text", text }] }],
    });
    template = await ask<Made>(ines, "POST", `/sheets/${sheet}/templates`, {
      template: { name: "Thanks twice", subject: doc("Thank you"), body: doc("You were a great help.") },
    });
    const address = cols.find((c) => c.type === "email")?.id ?? "";
    rule = await ask<Made>(ines, "POST", `/sheets/${sheet}/rules`, {
      body: {
        name: "Thank them",
        trigger: { kind: "date", column: date, offsets: [{ n: 1, unit: "days" }], at: "09:00" },
        send: [{ template: template.id }],
        to: [{ column: address }],
      },
    });
  });
  test.afterAll(async () => {
    await ask(ines, "DELETE", `/sheets/${sheet}/rules/${rule.id}`);
    await ask(ines, "DELETE", `/sheets/${sheet}/templates/${template.id}`);
    await ines.context().close();
    await tom.context().close();
  });
  const ruleName = async () =>
    (await ask<{ body: { name: string } }>(ines, "GET", `/sheets/${sheet}/rules/${rule.id}`)).body.name;

  test("where nothing waits, theirs is shown", async () => {
    for (const p of [ines, tom]) await p.goto(`/sheets/${sheet}/rules/${rule.id}`);
    await ines.getByLabel("Name of the rule").fill("Thank them all");
    await ines.getByRole("button", { name: "Save", exact: true }).click();
    await expect(ines.getByText("Saved", { exact: true })).toBeVisible();
    await expect(tom.getByLabel("Name of the rule")).toHaveValue("Thank them all");
  });

  test("the later writer of a rule sees both, and chooses", async () => {
    await tom.getByLabel("Name of the rule").fill("Thank everybody");
    await ines.locator("[data-place='/trigger/at']").click();
    await ines.getByLabel("Time of day").fill("10:30");
    await ines.keyboard.press("Escape");
    await ines.getByRole("button", { name: "Save", exact: true }).click();
    await expect(ines.getByRole("button", { name: "Save", exact: true })).toBeDisabled();
    const both = tom.getByRole("alert", { name: "Saved meanwhile" });
    await expect(both).toContainText("10:30");
    await expect(both).toContainText("09:00");
    await expect(tom.getByRole("button", { name: "Save", exact: true })).toBeDisabled();
    expect(await ruleName()).toBe("Thank them all");
    // Theirs is taken: what tom typed is gone, and he knows.
    await both.getByRole("button", { name: "Use theirs" }).click();
    await expect(tom.getByLabel("Name of the rule")).toHaveValue("Thank them all");
    await expect(tom.getByText(/10:30/).first()).toBeVisible();
  });

  test("what was opened is what is saved over, even where the news has not come", async () => {
    // Tom's page hears nothing of the other's saving; the server tells him.
    await tom.goto(`/sheets/${sheet}/rules/${rule.id}`);
    await expect(tom.getByLabel("Name of the rule")).toHaveValue("Thank them all");
    await tom.route("**/api/events", (r) => r.abort());
    await tom.reload();
    await tom.getByLabel("Name of the rule").fill("Thank everybody");
    await ines.getByLabel("Name of the rule").fill("Thank the helpers");
    await ines.getByRole("button", { name: "Save", exact: true }).click();
    await expect.poll(ruleName).toBe("Thank the helpers");
    await tom.getByRole("button", { name: "Save", exact: true }).click();
    const both = tom.getByRole("alert", { name: "Saved meanwhile" });
    await expect(both).toBeVisible();
    expect(await ruleName()).toBe("Thank the helpers");
    await both.getByRole("button", { name: "Use mine" }).click();
    await tom.getByRole("button", { name: "Save", exact: true }).click();
    await expect.poll(ruleName).toBe("Thank everybody");
    await tom.unroute("**/api/events");
  });

  test("the later writer of a template sees both letters", async () => {
    for (const p of [ines, tom]) await p.goto(`/templates/${sheet}/${template.id}`);
    const body = (p: Page) => p.getByRole("textbox", { name: "Email text" });
    await body(tom).click();
    await tom.keyboard.press("Control+End");
    await tom.keyboard.type(" From Tom.");
    await body(ines).click();
    await ines.keyboard.press("Control+End");
    await ines.keyboard.type(" From Ines.");
    await ines.getByRole("button", { name: "Save", exact: true }).click();
    await expect(ines.getByText("Saved", { exact: true })).toBeVisible();
    const both = tom.getByRole("alert", { name: "Saved meanwhile" });
    await expect(both.getByText("From Ines.")).toBeVisible();
    await expect(both.getByText("From Tom.")).toBeVisible();
    await both.getByRole("button", { name: "Use theirs" }).click();
    await expect(body(tom)).toContainText("From Ines.");
    await expect(body(tom)).not.toContainText("From Tom.");
    // From here on he writes over what he has seen.
    await body(tom).click();
    await tom.keyboard.press("Control+End");
    await tom.keyboard.type(" And Tom.");
    await tom.getByRole("button", { name: "Save", exact: true }).click();
    await expect(tom.getByText("Saved", { exact: true })).toBeVisible();
    await expect(body(ines)).toContainText("From Ines. And Tom.");
  });
});

test("two tabs of one person: what waits is one queue, and is sent once", async ({ browser }) => {
  const first = await person(browser, "tom");
  const second = await first.context().newPage();
  const sheet = (await ask<Named[]>(first, "GET", "/sheets")).find((s) => s.name === "Display cases")?.id ?? "";
  for (const p of [first, second]) {
    await p.goto(`/sheets/${sheet}`);
    await expect(p.getByRole("grid")).toBeVisible();
    await expect(p.getByRole("rowheader").first()).toBeVisible();
  }
  type Column = { id: string; name: string; type: string; locked?: boolean };
  const columns = (await ask<{ columns: Column[] }>(first, "GET", `/sheets/${sheet}`)).columns;
  const text = columns.findIndex((c, i) => i > 0 && c.type === "text" && !c.locked);
  expect(text).toBeGreaterThan(0);
  const before = await ask<{ rows: { id: string; cells: { text: string }[] }[] }>(
    first,
    "POST",
    `/sheets/${sheet}/rows/query`,
    {
      offset: 0,
      limit: 2,
    },
  );
  // The server is away for both.
  let sent = 0;
  await first.context().route("**/changes", (r) => {
    sent++;
    return r.abort();
  });
  const type = async (p: Page, row: number, words: string) => {
    await p.getByRole("rowheader").nth(row).click();
    for (let i = 0; i < text; i++) await p.keyboard.press("ArrowRight");
    await p.keyboard.type(words);
    await p.keyboard.press("Enter");
  };
  await type(first, 0, "typed in the first tab");
  await type(second, 1, "typed in the second tab");
  // Each tab shows what waits, whichever it was typed in.
  for (const p of [first, second]) {
    await expect(p.getByRole("gridcell", { name: "typed in the first tab" })).toBeVisible();
    await expect(p.getByRole("gridcell", { name: "typed in the second tab" })).toBeVisible();
  }
  expect(sent).toBeGreaterThan(0);
  // The first tab is closed before the server is back: nothing of it is lost.
  await first.close();
  await second.context().unroute("**/changes");
  const rows = async () =>
    (
      await ask<{ rows: { cells: { text: string }[] }[] }>(second, "POST", `/sheets/${sheet}/rows/query`, {
        offset: 0,
        limit: 2,
      })
    ).rows.map((r) => r.cells[text]?.text);
  await expect.poll(rows).toEqual(["typed in the first tab", "typed in the second tab"]);
  expect(await second.evaluate(() => Object.keys(localStorage).filter((k) => k.startsWith("unsent:")))).toEqual([]);
  // As it was.
  await ask(second, "POST", `/sheets/${sheet}/changes`, {
    kind: "edit",
    steps: before.rows.map((r) => ({
      op: "edit",
      row: r.id,
      cells: { [columns[text]?.id ?? ""]: r.cells[text]?.text ?? "" },
    })),
  });
  await second.context().close();
});

test("several working calendars, and the one that a sheet has", async ({ browser }) => {
  const page = await person(browser, "ines");
  await page.goto("/setup/calendar");
  await page.getByLabel("New calendar").fill("Depot at Saltby");
  await page.getByRole("button", { name: "Add a calendar" }).click();
  await expect(page.getByText("No sheet has it yet")).toBeVisible();
  await page.getByRole("checkbox", { name: "Saturday" }).check();
  await page.getByRole("button", { name: /Monday, April 5th, 2027/ }).click();
  await expect(page.getByText("No email of the coming 60 days changes.")).toBeVisible();
  await page.getByRole("button", { name: "Save the calendar" }).click();
  await expect(page.getByText("1 this year, 1 in all")).toBeVisible();
  const sheet = (await ask<Named[]>(page, "GET", "/sheets")).find((s) => s.name === "Display cases")?.id ?? "";
  await page.goto(`/sheets/${sheet}?slip=columns`);
  await page.getByLabel("Working days go by").selectOption({ label: "Depot at Saltby" });
  await expect
    .poll(async () => (await ask<{ calendar: string }>(page, "GET", `/sheets/${sheet}`)).calendar)
    .not.toBe("");
  await page.goto("/setup/calendar");
  await page.getByRole("button", { name: "Depot at Saltby" }).click();
  await expect(page.getByText("Counts for Display cases.")).toBeVisible();
  await expect(page.getByRole("button", { name: "Delete" })).toBeHidden();
  await page.goto(`/sheets/${sheet}?slip=columns`);
  await page.getByLabel("Working days go by").selectOption({ index: 0 });
  await expect.poll(async () => (await ask<{ calendar: string }>(page, "GET", `/sheets/${sheet}`)).calendar).toBe("");
  await page.goto("/setup/calendar");
  await page.getByRole("button", { name: "Depot at Saltby" }).click();
  await page.getByRole("button", { name: "Delete" }).click();
  await expect(page.getByText("Depot at Saltby is deleted.")).toBeVisible();
  await page.context().close();
});

test("what is taken off the do-not-email list can be put back at once", async ({ browser }) => {
  const page = await person(browser, "ines");
  await page.goto("/setup/do-not-email");
  await page.getByLabel("Address").fill("vera.moor@tolvane.example");
  await page.getByLabel("Reason").fill("asked for letters by post");
  await page.getByRole("button", { name: "Add to the list" }).click();
  await page.getByRole("button", { name: "Remove vera.moor@tolvane.example from the list" }).click();
  await expect(page.getByRole("row", { name: "vera.moor@tolvane.example" })).toHaveCount(0);
  await page.getByRole("button", { name: "Undo" }).click();
  await expect(page.getByRole("cell", { name: "asked for letters by post" })).toBeVisible();
  await page.getByRole("button", { name: "Remove vera.moor@tolvane.example from the list" }).click();
  await expect(page.getByRole("row", { name: "vera.moor@tolvane.example" })).toHaveCount(0);
  await page.context().close();
});

test("another time zone says first which emails change, and is left or taken", async ({ browser }) => {
  const page = await person(browser, "ines");
  const sheet = (await ask<Named[]>(page, "GET", "/sheets")).find((s) => s.name === "Outgoing loans")?.id ?? "";
  const zone = async () => (await ask<{ zone: string }>(page, "GET", `/sheets/${sheet}`)).zone;
  await page.goto(`/sheets/${sheet}?slip=columns`);
  const field = page.getByLabel("Its time zone");
  const type = async (text: string) => {
    await field.fill(text);
    await page.keyboard.press("Enter");
  };
  await type("America/New_York");
  await expect(page.getByText(/^In the coming 60 days \d+ emails no longer go and \d+ are new\.$/)).toBeVisible();
  await page.getByRole("button", { name: "Cancel" }).click();
  await expect(field).toHaveValue("Europe/London");
  await type("Marrowby");
  await expect(page.getByText(/is not known/)).toBeVisible();
  await type("Europe/Berlin");
  await page.getByRole("button", { name: "Change it" }).click();
  await expect.poll(zone).toBe("Europe/Berlin");
  await type("Europe/London");
  await page.getByRole("button", { name: "Change it" }).click();
  await expect.poll(zone).toBe("Europe/London");
  await page.context().close();
});
