import { defineConfig } from "@playwright/test";

// The real program with the demo data, begun anew for each run, in a folder
// and on ports of its own.
const port = Number(process.env.NIVOT_E2E_PORT ?? 8520);
export const dir = `${process.env.NIVOT_E2E_VAR ?? "/tmp/nivot-e2e"}-${port}`;
export const smtpPort = port + 5;
const base = `http://127.0.0.1:${port}`;

// The tests that look at every view, and those that work with it, may run side by side, each
// part on a program of its own; without NIVOT_E2E_PART all run.
const looks = /(help|letters|pure|states|views|wide|xlarge)\.spec\.ts$/;
const part = process.env.NIVOT_E2E_PART;

export default defineConfig({
  testDir: ".",
  testMatch: part === "looks" ? looks : /\.spec\.ts$/,
  testIgnore: part === "work" ? looks : [],
  outputDir: `results/${port}`,
  workers: 1,
  fullyParallel: false,
  timeout: 240_000, // of a machine that has much else to do
  expect: { timeout: 60_000 },
  reporter: [["list"], ["./failures.ts"]],
  use: {
    baseURL: base,
    viewport: { width: 1280, height: 800 },
    locale: "en-GB",
    timezoneId: "Europe/London",
    launchOptions: {
      executablePath: process.env.CHROMIUM ?? "/usr/bin/chromium-headless-shell",
      args: [
        "--no-sandbox",
        "--disable-gpu",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
        "--no-first-run",
      ],
    },
    // Recording costs as much again as the tests themselves.
    trace: process.env.NIVOT_E2E_TRACE ? "retain-on-failure" : "off",
    screenshot: "only-on-failure",
  },
  webServer: {
    command: "../bin/nivot demo -short -fresh",
    url: `${base}/readyz`,
    timeout: 300_000,
    env: {
      NIVOT_ADDR: `127.0.0.1:${port}`,
      NIVOT_PRACTICE_SMTP: `127.0.0.1:${smtpPort}`,
      NIVOT_DB_PORT: String(port + 6),
      NIVOT_VAR: dir,
    },
    gracefulShutdown: { signal: "SIGTERM", timeout: 20_000 },
  },
});
