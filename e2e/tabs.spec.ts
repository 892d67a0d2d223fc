import { expect, test } from "@playwright/test";
import { ask, signIn } from "./museum";

// A browser opens six connections to a server at the most: twenty tabs share one stream of changes.
test("twenty tabs of one browser all open, hear of changes, and share one stream", async ({ context }) => {
  let streams = 0;
  context.on("request", (r) => {
    if (r.url().endsWith("/api/events")) streams++;
  });
  const first = await context.newPage();
  await signIn(first, "ines");
  const pages = [first];
  for (let i = 1; i < 20; i++) {
    const page = await context.newPage();
    await page.goto("/setup/senders");
    await expect(page.getByRole("cell", { name: /Marrowby Museum/ })).toBeVisible();
    pages.push(page);
  }
  expect(streams).toBe(1);
  // The tab that listens passes a change of the first tab on to the last.
  const last = pages[19];
  await last.goto("/");
  await expect(last.getByText("Sending is on")).toBeVisible();
  await ask(first, "PUT", "/sending", { on: false });
  await expect(last.getByText("Sending is off")).toBeVisible();
  // Another takes over once that tab is closed.
  await pages[2].goto("/");
  await first.close();
  await expect(async () => expect(streams).toBe(2)).toPass();
  await ask(pages[2], "PUT", "/sending", { on: true });
  await expect(last.getByText("Sending is on")).toBeVisible();
});

test("what is used by default is chosen, and a sender that cannot send says so", async ({ page }) => {
  await signIn(page, "ines");
  const made = await ask<{ id: string; isDefault: boolean }>(page, "POST", "/setup/senders", {
    name: "Volunteers office",
    address: "volunteers@marrowby.example",
    host: "127.0.0.1",
    port: 1, // nothing listens there
    security: "none",
  });
  expect(made.isDefault).toBe(false);
  await page.goto("/setup/senders");
  const row = page.getByRole("row", { name: /Volunteers office/ });
  await row.getByRole("button", { name: "use by default" }).click();
  await expect(page.getByText(/Outgoing loans, .* would send from volunteers@marrowby.example/)).toBeVisible();
  await page.getByRole("button", { name: "Use it by default" }).click();
  await expect(row.getByText("used by default")).toBeVisible();
  // What is sent by hand now waits for it.
  const sheets = await ask<{ id: string; name: string }[]>(page, "GET", "/sheets");
  const at = `/sheets/${sheets.find((s) => s.name === "Volunteers")?.id}`;
  const whole = await ask<{ id: string; address: string }>(page, "GET", at);
  const templates = await ask<{ id: string; sheet: string }[]>(page, "GET", "/templates");
  const rule = await ask<{ id: string }>(page, "POST", `${at}/rules`, {
    body: {
      name: "By hand, for this test",
      trigger: { kind: "by-hand" },
      send: [{ template: templates.find((t) => t.sheet === whole.id)?.id }],
      to: [{ column: whole.address }],
    },
  });
  await ask(page, "PUT", `${at}/rules/${rule.id}/state`, { state: "on" });
  const rows = await ask<{ rows: { id: string }[] }>(page, "GET", `${at}/rows?limit=3`);
  await ask(page, "POST", `${at}/rules/${rule.id}/send`, { batch: "one", rows: rows.rows.map((r) => r.id) });
  await page.goto("/");
  await expect(page.getByText("A sender cannot send.")).toBeVisible();
  await page.getByRole("link", { name: "Open the senders" }).click();
  await expect(row.getByText(/nothing listens at 127.0.0.1, port 1/i)).toBeVisible();
  // The first sender is used by default again.
  await page
    .getByRole("row", { name: /Marrowby Museum/ })
    .getByRole("button", { name: "use by default" })
    .click();
  await page.getByRole("button", { name: "Use it by default" }).click();
  await expect(page.getByRole("row", { name: /Marrowby Museum/ }).getByText("used by default")).toBeVisible();
  await row.getByRole("button", { name: "delete" }).click();
  await page.getByRole("button", { name: "Delete the sender" }).click();
  await expect(row).toHaveCount(0);
});
