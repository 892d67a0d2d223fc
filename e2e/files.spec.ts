// The files of rows: named in an import, met by name, dropped on a cell, attached by a letter; and
// the letter tried on a colleague before anybody else has it.
import { expect, test } from "@playwright/test";
import { ask, mails, signIn } from "./museum";

test.use({ timezoneId: "Europe/London", actionTimeout: 8_000 });

const csv = `Loan;Borrower;Email;Agreement
A-1;Fell Hall;desk@fell.example;A-1.pdf
A-2;The Grange;desk@grange.example;scans/A-2.pdf
A-3;Holt House and all of its outbuildings;desk@holt.example;A-3.pdf; plan.pdf
A-4;Isley;desk@isley.example;
`.replace("A-3.pdf; plan.pdf", '"A-3.pdf; plan.pdf"');
const pdf = (name: string) => ({ name, mimeType: "application/pdf", buffer: Buffer.from(`%PDF-1.4 ${name}`) });

test("files of rows, from an import to a colleague’s mailbox", async ({ page }) => {
  await signIn(page, "ines");

  await test.step("an import sees that they are files", async () => {
    await page.getByRole("link", { name: "Sheets", exact: true }).click();
    await page.getByRole("link", { name: "New sheet" }).click();
    await page
      .getByLabel("File of rows")
      .setInputFiles({ name: "Agreements.csv", mimeType: "text/csv", buffer: Buffer.from(csv) });
    await expect(page.getByLabel("Type of Agreement")).toHaveValue("file");
    await page.getByRole("button", { name: "Make a sheet of 4 rows" }).click();
    await expect(page.getByRole("gridcell", { name: "A-2.pdf" })).toBeVisible();
    await expect(page.locator(".bad", { hasText: "A-1.pdf" })).toHaveAttribute(
      "title",
      /not among the files of the sheet/,
    );
  });
  const sheet = new URL(page.url()).pathname.split("/")[2] ?? "";

  await test.step("files come: by name, and dropped on a cell", async () => {
    await page.getByRole("button", { name: "Files", exact: true }).click();
    const slip = page.getByRole("complementary", { name: "Files of the sheet" });
    await expect(slip.getByText("4 names in rows that no file has")).toBeVisible();
    await slip.getByLabel("choose them").setInputFiles([pdf("A-1.pdf"), pdf("a-2.PDF"), pdf("A-3.pdf")]);
    await expect(slip.getByText("1 name in rows that no file has")).toBeVisible();
    await slip
      .getByLabel("choose them")
      .setInputFiles({ name: "plan.pdf", mimeType: "application/pdf", buffer: Buffer.from("<script>") });
    await expect(
      page.getByText("“plan.pdf” cannot be taken: its name says .pdf, but its content is something else"),
    ).toBeVisible();
    await page.keyboard.press("Escape");
    const drop = await page.evaluateHandle(() => {
      const d = new DataTransfer();
      d.items.add(new File(["%PDF-1.4 dropped"], "A-4.pdf", { type: "application/pdf" }));
      return d;
    });
    const cell = page.locator("[data-row='3'] [data-col='5']");
    await cell.dispatchEvent("dragover", { dataTransfer: drop });
    await cell.dispatchEvent("drop", { dataTransfer: drop });
    await expect(cell).toHaveText("A-4.pdf");
    await expect(page.locator(".bad", { hasText: "A-4.pdf" })).toHaveCount(0);
    // What a cell names, and its taking out.
    await cell.click();
    await page.keyboard.press("F8");
    const its = page.getByRole("complementary", { name: "History of Agreement" });
    await expect(its.getByRole("link", { name: "A-4.pdf" })).toBeVisible();
    await its.getByRole("button", { name: "Remove A-4.pdf from this row" }).click();
    await expect(cell).toHaveText("");
    await page.keyboard.press("Escape");
  });

  await test.step("a letter attaches those of each row, and says which are missing", async () => {
    await page.goto(`/templates/${sheet}/new`);
    await page.getByLabel("Name of the template").fill("Agreement");
    await page.getByRole("textbox", { name: "Subject" }).click();
    await page.keyboard.type("The agreement of [borr");
    await page.keyboard.press("Enter");
    await page.getByRole("textbox", { name: "Email text" }).click();
    await page.keyboard.type("It comes with this letter.");
    await page.getByRole("button", { name: "Attach the row’s own files" }).click();
    await expect(page.getByText("Agreement names a file that is not among the files of the sheet")).toBeVisible();
    await expect(page.getByText("Agreement names no file")).toBeVisible();
    await page.getByRole("button", { name: "Save", exact: true }).click();
    await expect(page.getByText("Saved", { exact: true })).toBeVisible();
  });

  await test.step("it is tried on a colleague, with rows that differ", async () => {
    await page.getByRole("button", { name: /^More tests/ }).click();
    const form = page.getByRole("dialog");
    await form.getByLabel(/Rosa Moss/).check();
    await form.getByLabel(/^me/).uncheck();
    await form.getByLabel("rows that show all that is different").check();
    await expect(form.getByLabel(/the longest values/)).toBeChecked();
    await form.getByRole("button", { name: "Send the test" }).click();
    await expect(page.getByText("Sent to Rosa Moss alone: “Test: The agreement of")).toBeVisible();
    const got = await mails(page, "Test: The agreement of");
    expect(got.messages.map((m) => m.to)).toEqual([["rosa@marrowby.example"]]);
    const mail = await ask<{ text: string; files: { name: string }[] }>(
      page,
      "GET",
      `/practice/messages/${got.messages[0]?.id ?? ""}`,
    );
    expect(mail.text).toContain("This is a test of “Agreement”");
    expect(mail.files.map((f) => f.name)).toEqual(["a-2.PDF"]);
    await page.getByRole("link", { name: "Log", exact: true }).click();
    await page.getByRole("button", { name: /^Test: The agreement of/ }).click();
    const slip = page.getByRole("complementary", { name: /^Test: The agreement/ });
    await expect(slip.getByText("in the words of Agreement, version 1")).toBeVisible();
    await expect(slip.getByText("the longest values", { exact: true })).toBeVisible();
  });
});
