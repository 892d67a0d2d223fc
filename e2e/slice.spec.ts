import { expect, test } from "@playwright/test";
import { ask, mails, signIn } from "./museum";

// A newcomer's first walk: rows in, a letter, a rule, what it will do, a try on
// oneself, on, the clock forward, the mails, the log; and nothing goes twice.
test.describe.configure({ mode: "serial" });

const csv = `Booking;Guest;Guest email;Visit on;Guide;Group size
B-1;Ida Fell;ida@fell.example;04/04/2027;Rhoda Vance;12
B-2;Otto Grange;otto@grange.example;05/04/2027;Rhoda Vance;8
B-3;;pia@holt.example;04/04/2027;Clem Dell;30
B-4;Quentin Isley;quentin(at)isley.example;04/04/2027;Clem Dell;5
B-5;Tamsin Wick;tamsin@wick.example;soon;Clem Dell;9
`;

test("from a CSV to delivered emails, each once", async ({ page }) => {
  await signIn(page, "ines");

  await test.step("bring rows in", async () => {
    await page.getByRole("link", { name: "Sheets", exact: true }).click();
    await page.getByRole("link", { name: "New sheet" }).click();
    await page.getByLabel("File of rows").setInputFiles({
      name: "Group visits.csv",
      mimeType: "text/csv",
      buffer: Buffer.from(csv),
    });
    await expect(page.getByRole("heading", { level: 1 })).toContainText(
      "5 rows in 6 columns, UTF-8, separated by semicolon",
    );
    await expect(page.getByLabel("Type of Guest email")).toHaveValue("email");
    await expect(page.getByText("line 5: quentin(at)isley.example")).toBeVisible();
    const make = page.getByRole("button", { name: "Make a sheet of 5 rows" });
    await expect(make).toBeDisabled(); // the order of the dates is open
    await page
      .getByRole("group", { name: "Order of the dates in Visit on" })
      .getByRole("button", { name: "day" })
      .click();
    await expect(page.getByLabel("Booking identifies the row")).toBeChecked();
    await make.click();
    await expect(page.getByRole("heading", { level: 1 })).toContainText("Group visits. No rule is on yet.");
    await expect(page.getByRole("gridcell", { name: "quentin(at)isley.example" })).toBeVisible();
  });

  await test.step("edit by keyboard", async () => {
    await page.getByRole("rowheader", { name: "B-2" }).click();
    for (const k of ["ArrowRight", "ArrowRight", "ArrowRight"]) await page.keyboard.press(k);
    await page.keyboard.type("04/04/2027");
    await page.keyboard.press("Enter");
    await expect(page.getByRole("gridcell", { name: "4 Apr 2027" })).toHaveCount(4);
    await page.getByRole("button", { name: /Add a row/ }).click();
    // Typed at once, it is the new row's, and no other one's.
    await page.keyboard.type("B-6");
    await page.keyboard.press("Tab");
    await page.keyboard.press("Enter");
    await page.keyboard.type("Verity Rusk");
    await page.keyboard.press("Enter");
    await expect(page.getByRole("gridcell", { name: "Verity Rusk" })).toBeVisible();
  });

  const sheetPath = new URL(page.url()).pathname;
  await test.step("write a template", async () => {
    await page.getByRole("link", { name: "Templates", exact: true }).click();
    await page.getByRole("button", { name: "Write a template" }).click();
    await page.getByRole("link", { name: "Group visits" }).click();
    await page.getByLabel("Name of the template").fill("Visit");
    await page.getByRole("textbox", { name: "Subject" }).click();
    await page.keyboard.type("Your visit on [visit");
    await expect(page.getByRole("option", { name: /Visit on/ })).toBeVisible();
    await page.keyboard.press("Enter");
    await page.getByRole("textbox", { name: "Email text" }).click();
    await page.keyboard.type("Dear [gue");
    await page.keyboard.press("Enter");
    await page.keyboard.type(", we look forward to you.");
    await page.keyboard.press("Control+b");
    await page.keyboard.type(" Ring the bell.");
    await expect(page.getByTestId("subject")).toHaveText("Your visit on 4 Apr 2027");
    await expect(page.getByText("Guest is empty and has no fallback")).toBeVisible();
    // Other words for a missing name, and the first word only.
    await page.getByRole("textbox", { name: "Email text" }).getByText("Ida Fell").click();
    await page.getByLabel("How much").selectOption("first word");
    await page.getByLabel("write a fallback").check();
    await page.getByLabel("Fallback, where it is empty").fill("friend");
    await page.keyboard.press("Escape");
    await expect(page.frameLocator("iframe").getByText("Dear Ida, we look forward")).toBeVisible();
    await expect(page.getByText("Guest is empty and has no fallback")).toHaveCount(0);
    await page.getByRole("button", { name: /^next/ }).click();
    await expect(page.getByTestId("previewed")).toHaveText("B-2");
    await page.getByRole("button", { name: "Save" }).click();
    await expect(page.getByText("No rule uses it yet")).toBeVisible();
  });

  await test.step("try it on oneself", async () => {
    await page.getByRole("button", { name: "Send me this one" }).click();
    await expect(page.getByText("Sent to Ines Karne alone")).toBeVisible();
    const got = await mails(page, "Test: Your visit");
    expect(got.messages.map((m) => m.to)).toEqual([["ines@marrowby.example"]]);
  });

  await test.step("set one date rule and see what it will do", async () => {
    await page.goto(sheetPath);
    await page.getByRole("link", { name: "Add a rule" }).click();
    await page.getByLabel("Name of the rule").fill("Visit reminder");
    const blank = (place: string) => page.locator(`[data-place='${place}']`);
    await blank("/trigger/kind").click();
    await page.getByRole("button", { name: "some days before or after a date" }).click();
    await page.getByLabel("How many").fill("14");
    await page.getByRole("button", { name: "and also …" }).click();
    await page.keyboard.press("Escape");
    await page.getByRole("button", { name: "only rows where …" }).click();
    await page.getByRole("dialog").getByRole("button", { name: "Only rows where …" }).click();
    await page.getByLabel("Column", { exact: true }).selectOption({ label: "Group size" });
    await page.getByLabel("How", { exact: true }).selectOption(">=");
    await page.getByLabel("Value").fill("6");
    await page.keyboard.press("Escape");
    await blank("/hold").click();
    await page.getByRole("button", { name: "Remove from the sentence" }).click();
    await expect(page.getByText("14 and 1 days before")).toBeVisible();
    await expect(page.getByRole("heading", { name: /4 of 6 rows match now/ })).toBeVisible();
    await expect(page.getByRole("table").getByText("ida@fell.example").first()).toBeVisible();
    await page.getByRole("button", { name: "Row: B-1" }).click();
    await page.getByRole("radio", { name: /B-4/ }).click();
    await expect(page.getByText("Nothing goes out for this row unless group size is at least 6")).toBeVisible();
    await page.getByRole("button", { name: "Switch on: 6 emails in 60 days" }).click();
    await expect(page.getByRole("heading", { level: 1 })).toContainText("is on");
  });

  await test.step("the clock forward: the emails come, and the log has them", async () => {
    expect((await mails(page, "Your visit on 4 Apr")).total).toBe(1); // the test email alone
    await ask(page, "POST", "/clock", {
      to: "instant",
      at: "2027-03-21T09:05:00Z",
    });
    await expect.poll(async () => (await mails(page, "Your visit on 4 Apr")).total).toBe(4);
    await page.goto("/setup/practice");
    await page.getByLabel("Find emails").fill("pia@holt.example");
    await page
      .getByRole("row", { name: /pia@holt/ })
      .getByRole("button")
      .click();
    await expect(page.frameLocator("iframe").getByText("Dear friend, we look forward")).toBeVisible();
    await page.getByRole("button", { name: "Source" }).click();
    await expect(page.getByText("Auto-Submitted: auto-generated")).toBeVisible();
    await page.goto(sheetPath);
    await expect(page.getByRole("group", { name: /A accepted/ })).toHaveCount(3);
    await page.getByRole("link", { name: "Log", exact: true }).click();
    await page.getByRole("button", { name: "Sheet: all sheets" }).click();
    await page.getByRole("radio", { name: "Group visits" }).click();
    await page.keyboard.press("Escape");
    await page.getByRole("button", { name: "Your visit on 4 Apr 2027" }).first().click();
    const slip = page.getByRole("complementary");
    await expect(slip.getByText("Visit on is 14 days away; group size is")).toBeVisible();
    await expect(slip.getByText("handed over, accepted")).toBeVisible();
    await expect(slip.getByText("250 2.0.0 OK: queued")).toBeVisible();
    await expect(
      page.getByRole("row", {
        name: /skipped: condition false: group size is 5/,
      }),
    ).toBeVisible();
  });

  await test.step("whatever one does, nothing goes out twice", async () => {
    const sheet = sheetPath.split("/")[2];
    const rows = await ask<{ rows: { id: string; name: string }[] }>(page, "POST", `/sheets/${sheet}/rows/query`, {
      offset: 0,
      limit: 50,
    });
    const columns = (await ask<{ columns: { id: string; name: string }[] }>(page, "GET", `/sheets/${sheet}`)).columns;
    const visit = columns.find((c) => c.name === "Visit on")?.id as string;
    const b1 = rows.rows.find((r) => r.name === "B-1")?.id;
    const rule = (await ask<{ id: string }[]>(page, "GET", `/sheets/${sheet}/rules`))[0].id;
    for (const day of ["09/05/2027", "04/04/2027"]) {
      await ask(page, "PATCH", `/sheets/${sheet}/rows/${b1}`, {
        cells: { [visit]: day },
      });
      await ask(page, "POST", "/clock", {
        to: "instant",
        at: new Date(
          Date.parse((await ask<{ clock: { now: string } }>(page, "GET", "/session")).clock.now) + 300000,
        ).toISOString(),
      });
    }
    for (const state of ["paused", "on"]) await ask(page, "PUT", `/sheets/${sheet}/rules/${rule}/state`, { state });
    await ask(page, "DELETE", `/sheets/${sheet}/rows/${b1}`);
    await ask(page, "POST", `/sheets/${sheet}/rows/${b1}/restore`);
    await page.goto(sheetPath);
    await page.getByRole("link", { name: "Import" }).click();
    await page.getByLabel("File of rows").setInputFiles({
      name: "again.csv",
      mimeType: "text/csv",
      buffer: Buffer.from(
        csv
          .split("\n")
          .reverse()
          .filter(Boolean)
          .slice(0, -1)
          .reduce((s, l) => `${s}\n${l}`, csv.split("\n")[0] as string),
      ),
    });
    await page.getByRole("button", { name: "See what 5 rows would change" }).click();
    await page.getByRole("button", { name: /^Change 1/ }).click();
    await expect(page.getByRole("complementary", { name: "What was imported" })).toContainText("1 row changed");
    await ask(page, "POST", "/clock", { to: "day" });
    expect((await mails(page, "Your visit on 4 Apr")).total).toBe(4);
    const log = await ask<{ counts: Record<string, number> }>(page, "GET", `/log?sheet=${sheet}`);
    // The file has put B-2's visit back to 5 April: a new date, and so a new
    // occasion, whose email is the fourth.
    expect((await mails(page, "Your visit on 5 Apr")).messages.map((m) => m.to)).toEqual([["otto@grange.example"]]);
    expect(log.counts.accepted).toBe(4);
  });
});
