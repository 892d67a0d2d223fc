import { expect, type Page, test } from "@playwright/test";
import { ask, mails, person, signIn } from "./museum";

// One's own account, and what of it an administrator sees.
test("one is signed out elsewhere, and a forgotten password is set anew by email", async ({ browser, page }) => {
  await signIn(page, "hugh");
  const elsewhere = await person(browser, "hugh");
  await page.getByRole("button", { name: "Hugh Bellamy" }).click();
  await page.getByRole("link", { name: "Your account" }).click();
  await expect(page.getByRole("row")).toHaveCount(3);
  await page.getByRole("button", { name: "Sign out everywhere but here" }).click();
  await expect(page.getByRole("row")).toHaveCount(2);
  await elsewhere.reload();
  await expect(elsewhere.getByRole("button", { name: "Sign in" })).toBeVisible();

  await page.getByLabel("Password now").fill("weathercock-1790");
  await page.getByLabel(/^New password/).fill("hughbellamy1");
  await page.getByRole("button", { name: "Change the password" }).click();
  await expect(page.getByRole("alert")).toContainText("your own name");

  // The link goes to the address, if it is known; the page does not say whether it is.
  await elsewhere.getByLabel("Email address").fill("hugh@marrowby.example");
  await elsewhere.getByRole("button", { name: "Forgotten your password?" }).click();
  await expect(elsewhere.getByText("If the address is known here")).toBeVisible();
  const ines = await person(browser, "ines");
  await expect.poll(async () => (await mails(ines, "A new password for Nivot")).total).toBe(1);
  const id = (await mails(ines, "A new password for Nivot")).messages[0]?.id;
  const read = async (by: Page) => (await ask<{ text: string }>(by, "GET", `/practice/messages/${id}`)).text;
  expect(await read(ines)).not.toContain("/welcome/"); // it is his alone
  const text = await read(page);
  const link = new URL(/http:\/\/\S+\/welcome\/\S+/.exec(text)?.[0] ?? "");
  await elsewhere.goto(link.pathname);
  await elsewhere.getByLabel(/^Password/).fill("weathercock-1790");
  await elsewhere.getByRole("button", { name: "Sign in" }).click();
  await expect(elsewhere.getByRole("navigation", { name: "Places" })).toBeVisible();
  // What was signed in with the old one is not any more.
  await page.reload();
  await expect(page.getByRole("button", { name: "Sign in" })).toBeVisible();

  await ines.goto("/setup/audit");
  await expect(
    ines.getByRole("row").filter({ hasText: "Hugh Bellamy" }).filter({ hasText: "signed out elsewhere" }),
  ).toHaveCount(1);
  await ines.getByRole("button", { name: "did of any kind" }).click();
  await ines.getByRole("radio", { name: "made a link to set a password" }).check();
  await ines.keyboard.press("Escape");
  await expect(ines.getByRole("row")).toHaveCount(2);
  const csv = await ines.request.get(
    (await ines.getByRole("link", { name: "Export as CSV" }).getAttribute("href")) ?? "",
  );
  expect((await csv.text()).trim().split("\r\n")).toHaveLength(2);
});

test("signing out takes what was not saved out of the browser, after asking", async ({ page }) => {
  await signIn(page, "ines");
  const loans = (await ask<{ id: string; name: string }[]>(page, "GET", "/sheets")).find(
    (s) => s.name === "Outgoing loans",
  )?.id;
  await page.goto(`/sheets/${loans}/rules/new`);
  await page.getByLabel("Name of the rule").fill("Never saved");
  const kept = () => page.evaluate(() => Object.keys(localStorage).filter((k) => k.startsWith("nivot-draft-")).length);
  await expect.poll(kept).toBe(1);
  await page.getByRole("button", { name: "Ines Karne" }).click();
  await page.getByRole("button", { name: "Sign out" }).click();
  await expect(page.getByRole("alertdialog")).toContainText("1 piece of work of yours is kept in this browser alone");
  await page.getByRole("button", { name: "Cancel" }).click();
  await page.getByRole("button", { name: "Ines Karne" }).click();
  await page.getByRole("button", { name: "Sign out" }).click();
  await page.getByRole("button", { name: "Sign out and lose it" }).click();
  await expect(page.getByRole("button", { name: "Sign in" })).toBeVisible();
  expect(await kept()).toBe(0);
});
