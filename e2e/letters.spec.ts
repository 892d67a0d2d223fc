// A whole letter: written with all that a letter can have, in two languages, lost and found again,
// leafed through, tried, and opened where it arrives.
import { expect, type Page, test } from "@playwright/test";
import { ask, mails, signIn } from "./museum";

test.use({ timezoneId: "Europe/London", actionTimeout: 8_000 });

const letter = (page: Page) => page.getByRole("textbox", { name: "Email text" });
const tools = (page: Page) => page.getByRole("toolbar", { name: "Email text" });

// The browser tells the editor of a moved cursor a moment later.
async function to(page: Page, end: "End" | "Home") {
  await letter(page).focus();
  await page.waitForTimeout(150);
  await page.keyboard.press(`Control+${end}`);
  await page.waitForTimeout(150);
}
const toEnd = (page: Page) => to(page, "End");

async function insert(page: Page, name: string | RegExp) {
  await tools(page).getByRole("button", { name: "Insert" }).click();
  await page.getByRole("dialog").getByRole("button", { name }).click();
  await page.waitForTimeout(100);
}

// A picture of four red pixels.
const picture = Buffer.from(
  "iVBORw0KGgoAAAANSUhEUgAAAAIAAAACCAIAAAD91JpzAAAAEElEQVR4nGNYZqUNRAwQCgAfLgQt8VSXJgAAAABJRU5ErkJggg==",
  "base64",
);

test("a whole letter, from its first heading to the mailbox", async ({ page }) => {
  await signIn(page, "ines");

  await test.step("write it", async () => {
    await page.getByRole("link", { name: "Templates" }).click();
    await page.getByRole("button", { name: "Write a template" }).click();
    await page.getByRole("dialog").getByRole("link", { name: "Outgoing loans" }).click();
    await page.getByLabel("Name of the template").fill("Courier");
    await page.getByRole("textbox", { name: "Subject" }).click();
    await page.keyboard.type("A courier for [obj");
    await page.keyboard.press("Enter");
    await page.getByRole("textbox", { name: "Preview text" }).click();
    await page.keyboard.type("Please be there");
    await toEnd(page);
    await page.keyboard.type("Your courier");
    await tools(page).getByRole("button", { name: "Paragraph" }).click();
    await page.getByRole("dialog").getByRole("button", { name: "Heading", exact: true }).click();
    await page.keyboard.press("Enter");
    await page.keyboard.type("The crate is insured for [insured val");
    await page.keyboard.press("Enter");
    await page.keyboard.type(". Ring the bell.");
    await page.keyboard.press("Enter");
  });

  await test.step("a part that is shown only if", async () => {
    await insert(page, "A part shown only if …");
    await page.keyboard.type("Bring the red crate.");
    await page.getByRole("button", { name: /^Shown only if/ }).click();
    await page.getByRole("dialog").getByLabel("Column", { exact: true }).selectOption({ label: "Insured value" });
    await page.getByRole("dialog").getByLabel("How").selectOption({ label: "is at least" });
    await page.getByRole("dialog").getByRole("spinbutton").fill("5000");
    await page.keyboard.press("Escape");
    await expect(page.getByRole("button", { name: /^Shown only if insured value is at least .*5/ })).toBeVisible();
  });

  await test.step("tables, a picture, a button, a file", async () => {
    await toEnd(page);
    await insert(page, /^The row’s values/);
    await toEnd(page);
    await insert(page, /^Table$/);
    await page.keyboard.type("Gate");
    await page.keyboard.press("Tab");
    await page.keyboard.type("North");
    await toEnd(page);
    await page
      .getByLabel("Choose an image")
      .setInputFiles({ name: "map.png", mimeType: "image/png", buffer: picture });
    await page.getByRole("button", { name: "Image", exact: true }).click();
    await page
      .getByRole("textbox", { name: "In words, for those who do not see it" })
      .fill("The way to the north gate");
    await page.keyboard.press("Escape");
    await toEnd(page);
    await insert(page, /^Button$/);
    await page.keyboard.type(" the plan");
    await expect(page.getByText("A link or button leads nowhere")).toBeVisible();
    await page.getByRole("button", { name: "Button", exact: true }).click();
    await page.getByRole("textbox", { name: "It leads to" }).fill("https://loans.marrowby.example/plan?of=");
    await page.keyboard.press("End");
    await page.keyboard.type("[loan");
    await page.keyboard.press("Enter");
    await page.keyboard.press("Escape");
    await expect(page.getByText("A link or button leads nowhere")).toHaveCount(0);
    await page
      .getByLabel("Attach a file")
      .setInputFiles({ name: "notes.pdf", mimeType: "application/pdf", buffer: Buffer.from("not a PDF") });
    await expect(page.getByRole("group", { name: "Attachments" }).getByRole("alert")).toContainText(
      "its content is something else",
    );
    await page.getByLabel("Attach a file").setInputFiles({
      name: "Wegbeschreibung für Märzhausen.pdf",
      mimeType: "application/pdf",
      buffer: Buffer.from("%PDF-1.4 way"),
    });
    await expect(page.getByRole("button", { name: "Wegbeschreibung für Märzhausen.pdf" })).toBeVisible();
  });

  await test.step("what was typed outlives the page", async () => {
    // The page is gone as in a crash: it is asked nothing.
    await page.goto("about:blank");
    await page.goto("/templates");
    await page.getByRole("button", { name: "Write a template" }).click();
    await page.getByRole("dialog").getByRole("link", { name: "Outgoing loans" }).click();
    await expect(page.getByText("Your changes are still here.")).toBeVisible();
    await page.getByRole("button", { name: "Restore them" }).click();
    await expect(letter(page).getByRole("heading", { name: "Your courier" })).toBeVisible();
    await expect(page.getByLabel("Name of the template")).toHaveValue("Courier");
  });

  await test.step("undo takes back what was done last, and leaving asks", async () => {
    await toEnd(page);
    await page.keyboard.type("Nonsense");
    await tools(page).getByRole("button", { name: "Undo" }).click();
    await expect(letter(page)).not.toContainText("Nonsense");
    await tools(page).getByRole("button", { name: "Redo" }).click();
    await expect(letter(page)).toContainText("Nonsense");
    await tools(page).getByRole("button", { name: "Undo" }).click();
    await page.getByRole("link", { name: "Log" }).click();
    await expect(page.getByRole("alertdialog", { name: "Not saved" })).toBeVisible();
    await page.getByRole("button", { name: "Stay" }).click();
  });

  await test.step("in German too, and saved", async () => {
    await page.getByRole("button", { name: "write it in another language …" }).click();
    await page.getByRole("button", { name: "Write it in German" }).click();
    await expect(page.getByRole("button", { name: "German", exact: true })).toHaveAttribute("aria-pressed", "true");
    await to(page, "Home");
    await page.keyboard.type("Ihr Kurier: ");
    await expect(letter(page)).toContainText("Ihr Kurier: Dear");
    await page.getByRole("button", { name: "Save", exact: true }).click();
    await expect(page.getByText("No rule uses it yet")).toBeVisible();
  });

  await test.step("leaf: every row as it gets it", async () => {
    const arrives = page.frameLocator("iframe").first();
    await page.getByRole("button", { name: "British English" }).click();
    for (let i = 0; i < 3; i++) {
      const row = await page.getByTestId("previewed").innerText();
      await expect(arrives.getByText("Your courier")).toBeVisible();
      await page.getByRole("button", { name: /^next/ }).click();
      await expect(page.getByTestId("previewed")).not.toHaveText(row);
    }
    await page.getByRole("button", { name: "German", exact: true }).click();
    await page
      .getByRole("group", { name: "Languages" })
      .getByRole("button", { name: /^\d+ rows$/ })
      .click();
    await expect(page.getByRole("button", { name: "Leaf through: only rows in this language" })).toBeVisible();
    await expect(arrives.getByText("Ihr Kurier: Dear")).toBeVisible();
    // The rows of a check, by its number.
    await page.locator("li", { hasText: "Contact email is empty" }).getByRole("button", { name: "1 row" }).click();
    await expect(page.getByTestId("previewed")).toHaveText("LN-0401");
    for (const way of ["On a phone", "Dark", "Plain text", "Source"]) {
      await page
        .getByRole("group", { name: "How it is shown" })
        .getByRole("button", { name: way, exact: true })
        .click();
    }
    await expect(page.getByText(/multipart\/mixed/)).toBeVisible();
    await page.getByRole("button", { name: "Write", exact: true }).click();
  });

  await test.step("send one to oneself, and find all of it in the mailbox", async () => {
    await page.getByLabel("Find a row").fill("LN-0301");
    await page.keyboard.press("Enter");
    await expect(page.getByTestId("previewed")).toHaveText("LN-0301");
    await page.getByRole("button", { name: "Send me this one" }).click();
    await expect(page.getByText("Sent to Ines Karne alone")).toBeVisible();
    const got = await mails(page, "Test: A courier for");
    expect(got.messages).toHaveLength(1);
    const mail = await ask<{ html: string; text: string; source: string; files: { name: string; size: number }[] }>(
      page,
      "GET",
      `/practice/messages/${got.messages[0]?.id ?? ""}`,
    );
    for (const part of [
      "Your courier</h1>",
      "data:image/png;base64,",
      'alt="The way to the north gate"',
      "Please be there",
      ">Gate</th>",
      ">North</th>",
    ])
      expect(mail.html).toContain(part);
    expect(mail.html).toContain('href="https://loans.marrowby.example/plan?of=LN-0301"');
    expect(mail.text).toContain("[The way to the north gate]");
    expect(mail.files).toEqual([{ name: "Wegbeschreibung für Märzhausen.pdf", type: "application/pdf", size: 12 }]);
  });

  await test.step("its versions", async () => {
    await page.getByRole("button", { name: "British English" }).click();
    await toEnd(page);
    await page.keyboard.type("With kind regards");
    await page.getByRole("button", { name: "Save", exact: true }).click();
    await expect(page.getByRole("button", { name: /German.*older/ })).toBeVisible();
    await page.getByRole("button", { name: "Versions" }).click();
    const slip = page.getByRole("complementary", { name: "Versions" });
    await slip.getByLabel("Show").selectOption({ index: 1 });
    await slip.getByLabel("beside").selectOption({ index: 1 });
    await expect(slip.getByText("With kind regards")).toHaveCount(1);
    await slip.getByRole("button", { name: /^Restore version 1/ }).click();
    await expect(letter(page)).not.toContainText("With kind regards");
  });
});

test("a copy for another sheet says what has no place there", async ({ page }) => {
  await signIn(page, "ines");
  await page.getByRole("link", { name: "Templates" }).click();
  await page.getByRole("link", { name: "Thank you", exact: true }).click();
  await page.getByRole("button", { name: "Copy …" }).click();
  await page.getByLabel("For the sheet").selectOption({ label: "Display cases" });
  await page.getByRole("button", { name: "Go on" }).click();
  await page.getByLabel("Name", { exact: true }).selectOption({ label: "Keeper" });
  await page.getByRole("button", { name: "Open the copy" }).click();
  await expect(page.getByLabel("Name of the template")).toHaveValue("Thank you, copy");
  await expect(
    page.getByText(/name columns? that this sheet does not have|names a column that this sheet does not have/),
  ).toBeVisible();
  // A template that a rule uses is not deleted.
  await page.goto("/templates");
  await page.getByRole("link", { name: "Thank you", exact: true }).click();
  await page.getByRole("button", { name: "Delete …" }).click();
  await expect(page.getByText("It is used by A Thank you.")).toBeVisible();
});

test("what other programs wrote is cleaned as it is pasted", async ({ page }) => {
  await signIn(page, "ines");
  await page.getByRole("link", { name: "Templates" }).click();
  await page.getByRole("button", { name: "Write a template" }).click();
  await page.getByRole("dialog").getByRole("link", { name: "Outgoing loans" }).click();
  await toEnd(page);
  const point = (s: string, words: string) =>
    `<p style='mso-list:l0 level1 lfo1'><span style='mso-list:Ignore'>${s}<span>&nbsp;</span></span>${words}</p>`;
  const html = `<style>p{color:red}</style><h1 style="color:#ff0000">The bell</h1><p><b><span style="font-family:Calibri">Please</span></b> see <a href="https://marrowby.example/">here</a><script>alert(1)</script>.</p>
    ${point("·", "One")}${point("·", "Two")}${point("1.", "First")}<p style="text-align:center;color:#a63a2b">In brick</p><table><tr><th>Gate</th></tr><tr><td>North</td></tr></table><img src="https://evil.example/t.gif">`;
  await letter(page).evaluate((el, html) => {
    const d = new DataTransfer();
    d.setData("text/html", html);
    el.dispatchEvent(new ClipboardEvent("paste", { clipboardData: d, bubbles: true, cancelable: true }));
  }, html);
  await page.getByRole("button", { name: "HTML", exact: true }).click();
  const source = page.getByRole("textbox", { name: /HTML/ });
  await expect(source).toHaveValue(/<h1>The bell<\/h1>/);
  const got = (await source.inputValue()).replace(/>\s+</g, "><");
  for (const part of [
    '<strong>Please</strong> see <a href="https://marrowby.example/">here</a>.',
    "<ul><li><p>One</p></li><li><p>Two</p></li></ul><ol><li><p>First</p></li></ol>",
    '<p style="text-align:center"><span style="color:#a63a2b">In brick</span></p>',
    "<th><p>Gate</p></th>",
    "<td><p>North</p></td>",
  ])
    expect(got).toContain(part);
  expect(got).not.toMatch(/script|evil|Calibri|img/);
});

test("by keyboard: a field is come to with the arrows and opened with Enter; menus give the focus back", async ({
  page,
}) => {
  await signIn(page, "ines");
  await page.getByRole("link", { name: "Templates" }).click();
  await page.getByRole("link", { name: "Return", exact: true }).click();
  await expect(page.getByTestId("previewed")).toBeVisible();
  await to(page, "Home");
  const chosen = letter(page).locator(".ProseMirror-selectednode .chip");
  for (let i = 0; i < 20 && (await chosen.count()) === 0; i++) {
    await page.keyboard.press("ArrowRight");
    await page.waitForTimeout(50);
  }
  const before = await letter(page).innerText();
  await page.keyboard.press("Enter");
  const panel = page.getByRole("dialog", { name: "Contact" });
  await expect(panel.getByLabel("How much")).toBeVisible();
  await page.keyboard.press("Escape");
  await expect(panel).toHaveCount(0);
  await expect(letter(page)).toBeFocused();
  expect(await letter(page).innerText()).toBe(before);

  for (const name of ["Insert", "Link", "Align"]) {
    const menu = tools(page).getByRole("button", { name, exact: true });
    await menu.focus();
    await page.keyboard.press("Enter");
    await expect(page.getByRole("dialog", { name })).toBeVisible();
    await page.keyboard.press("Escape");
    await expect(menu).toBeFocused();
  }
});
