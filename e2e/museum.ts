import { type Browser, expect, type Locator, type Page } from "@playwright/test";

export const password = "weathercock-1790";

export async function signIn(page: Page, who: "ines" | "tom" | "rosa" | "hugh") {
  await page.goto("/");
  await page.getByLabel("Email address").fill(`${who}@marrowby.example`);
  await page.getByLabel("Password").fill(password);
  await page.getByRole("button", { name: "Sign in" }).click();
  await expect(page.getByRole("navigation", { name: "Places" })).toBeVisible();
}

/** A page of its own on which somebody is signed in, who may copy and paste. */
export async function person(browser: Browser, who: Parameters<typeof signIn>[1]) {
  const context = await browser.newContext({ permissions: ["clipboard-read", "clipboard-write"] });
  const page = await context.newPage();
  await signIn(page, who);
  return page;
}

// Calls the API as the page's person; the browser adds what the server asks for.
export async function ask<T>(page: Page, method: string, path: string, body?: unknown): Promise<T> {
  return page.evaluate(
    async ([method, path, body]) => {
      const res = await fetch(`/api${path}`, {
        method: method as string,
        headers: body ? { "Content-Type": "application/json" } : {},
        body: body ? JSON.stringify(body) : undefined,
      });
      const text = await res.text();
      if (!res.ok) throw new Error(`${path}: ${res.status} ${text}`);
      return text ? JSON.parse(text) : null;
    },
    [method, path, body] as const,
  ) as Promise<T>;
}

/** Goes on by Tab until one of what is meant, which has come by then, has the focus, and shows it. */
export async function tabOnTo(page: Page, what: Locator) {
  await expect(what.first()).toBeVisible(); // whoever sees nothing there yet does not press on
  for (let i = 0; i < 80; i++) {
    const shown = await what.evaluateAll((all) => {
      const at = document.activeElement;
      if (!at || !all.includes(at as HTMLElement)) return undefined;
      return at.matches("input, [role=textbox]") || getComputedStyle(at).outlineStyle !== "none";
    });
    if (shown !== undefined) return expect(shown, `the focus on ${what} is seen`).toBe(true);
    await page.keyboard.press("Tab");
  }
  throw new Error(`Tab does not come to ${what}`);
}

type Mails = {
  total: number;
  messages: { id: string; to: string[]; subject: string }[];
};
export const mails = (page: Page, find: string) =>
  ask<Mails>(page, "GET", `/practice/messages?find=${encodeURIComponent(find)}`);

/** The page of a rule, where its sentence is said. */
export function ruleEditor(page: () => Page, sheet: (name: string) => string) {
  const blank = (place: string) => page().locator(`[data-place='${place}']`);
  const slip = () => page().getByRole("dialog");
  const close = () => page().keyboard.press("Escape");
  return {
    blank,
    slip,
    close,
    sentence: async () =>
      (await page().locator("p.font-letter:has([data-place])").allInnerTexts()).join(" ").replace(/\s+/g, " "),
    /** Adds what is at its default. */
    more: (words: string) => page().getByRole("button", { name: words, exact: true }).click(),
    /** A new rule, with its name and its kind of trigger, whose slip stays open. */
    begin: async (of: string, name: string, when: string) => {
      await page().goto(`/sheets/${sheet(of)}/rules/new`);
      await page().getByLabel("Name of the rule").fill(name);
      await blank("/trigger/kind").click();
      await page().getByRole("button", { name: when }).click();
    },
    template: async (name: string) => {
      await blank("/send/0/template").click();
      await slip().getByRole("radio", { name, exact: true }).check();
      await close();
    },
  };
}
