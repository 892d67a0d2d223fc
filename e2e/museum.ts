import { expect, type Page } from "@playwright/test";

export const password = "weathercock-1790";

export async function signIn(page: Page, who: "ines" | "tom" | "rosa" | "hugh") {
  await page.goto("/");
  await page.getByLabel("Email address").fill(`${who}@marrowby.example`);
  await page.getByLabel("Password").fill(password);
  await page.getByRole("button", { name: "Sign in" }).click();
  await expect(page.getByRole("navigation", { name: "Places" })).toBeVisible();
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

type Mails = {
  total: number;
  messages: { id: string; to: string[]; subject: string }[];
};
export const mails = (page: Page, find: string) => ask<Mails>(page, "GET", `/practice/messages?find=${encodeURIComponent(find)}`);
