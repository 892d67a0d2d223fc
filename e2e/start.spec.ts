import { type ChildProcess, execFileSync, spawn } from "node:child_process";
import { rmSync } from "node:fs";
import { expect, test } from "@playwright/test";
import { ask } from "./museum";
import { dir, smtpPort } from "./playwright.config";

// A real installation: an empty database, and the one-time link that the server prints.
const socket = `${dir}/db/sock`;
const address = "127.0.0.1:8521";
const sql = (text: string) => execFileSync("mariadb", ["--no-defaults", "-u", "root", "-S", socket, "-e", text]);
let server: ChildProcess;
let link = "";

test.beforeAll(async () => {
  sql("DROP DATABASE IF EXISTS firststart; CREATE DATABASE firststart CHARACTER SET utf8mb4");
  const env = {
    ...process.env,
    NIVOT_ADDR: address,
    NIVOT_DSN: `root@unix(${socket})/firststart`,
    NIVOT_KEY_FILE: `${dir}/first-start-key`,
    NIVOT_PRACTICE_SMTP: "",
  };
  server = spawn("../bin/nivot", ["serve"], { env });
  link = await new Promise<string>((found, failed) => {
    let said = "";
    server.stdout?.on("data", (b: Buffer) => {
      said += b.toString();
      const url = /http:\/\/\S+\/welcome\/\S+/.exec(said)?.[0];
      if (url) found(url);
    });
    server.on("exit", () => failed(new Error(said)));
  });
});
test.afterAll(async () => {
  const ended = new Promise((done) => server.once("exit", done));
  server.kill("SIGTERM");
  await ended;
  sql("DROP DATABASE firststart");
  rmSync(`${dir}/first-start-key`, { force: true });
});

test("the first sign-in leads through sender, try and first sheet, and can be left", async ({ page }) => {
  await page.goto(link);
  await page.getByLabel("Name").fill("Ottilie Brand");
  await page.getByLabel("Email address").fill("ottilie@marrowby.example");
  await page.getByLabel(/^Password/).fill("a lantern by the weir");
  await page.getByRole("button", { name: "Sign in" }).click();
  await expect(page.getByRole("heading", { level: 1 })).toContainText("Welcome, Ottilie Brand.");

  // It can be left, and Today leads back to it.
  await page.getByRole("link", { name: "Leave this page" }).click();
  await expect(page.getByText("No sender is set, so nothing can go out yet.")).toBeVisible();
  await page.getByRole("link", { name: "Set up the sender and the first sheet" }).click();

  // The sender is tried before it is saved.
  await page.getByLabel("Name that recipients see").fill("Marrowby Museum");
  await page.getByLabel("Address", { exact: true }).fill("desk@marrowby.example");
  await page.getByLabel("Mail server").fill("127.0.0.1");
  await page.getByLabel("Port").fill(String(smtpPort));
  await page.getByLabel("Protection").selectOption("none");
  await page.getByRole("button", { name: "Send me a test email" }).click();
  await expect(page.getByRole("status").filter({ hasText: "ottilie@marrowby.example" })).toBeVisible();
  await page.getByRole("button", { name: "Save the sender" }).click();
  await expect(page.getByText("Marrowby Museum <desk@marrowby.example>, over 127.0.0.1.")).toBeVisible();
  await page.getByRole("button", { name: "Send me a test email" }).click();
  await expect(page.getByRole("status").filter({ hasText: "ottilie@marrowby.example" })).toBeVisible();

  // A file chosen there is looked at on the page of new sheets.
  await page.getByLabel("File of rows").setInputFiles({
    name: "Keys.csv",
    mimeType: "text/csv",
    buffer: Buffer.from("Key,Holder,Email,Back by\nK-1,Ida Fell,ida@fell.example,2027-04-20\n"),
  });
  await expect(page.getByRole("heading", { level: 1 })).toContainText("Keys.csv");
  await page.getByRole("button", { name: "Make a sheet of 1 row" }).click();
  await expect(page.getByRole("complementary", { name: "What was imported" })).toContainText("1 row added");
  await page.goto(new URL("/", link).href);
  await expect(page.getByRole("heading", { level: 1 })).toBeVisible();
  await expect(page.getByText("No sender is set")).toHaveCount(0);
  expect(await ask<unknown[]>(page, "GET", "/sheets")).toHaveLength(1);
});
