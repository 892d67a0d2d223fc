import { defineConfig } from "@playwright/test";

// The real program with the demo data, begun anew for each run, in a folder
// and on ports of its own.
export const base = "http://127.0.0.1:8520";

export default defineConfig({
  testDir: ".",
  outputDir: "results",
  workers: 1,
  fullyParallel: false,
  timeout: 60_000,
  expect: { timeout: 15_000 },
  reporter: [["list"]],
  use: {
    baseURL: base,
    viewport: { width: 1280, height: 800 },
    locale: "en-GB",
    timezoneId: "Europe/London",
    launchOptions: {
      executablePath: process.env.CHROMIUM ?? "/usr/bin/chromium",
      args: [
        "--no-sandbox",
        "--disable-gpu",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
        "--no-first-run",
      ],
    },
    trace: "retain-on-failure",
  },
  webServer: {
    command: "../bin/nivot demo -short -fresh",
    url: `${base}/readyz`,
    timeout: 120_000,
    env: {
      NIVOT_ADDR: "127.0.0.1:8520",
      NIVOT_PRACTICE_SMTP: "127.0.0.1:8525",
      NIVOT_DB_PORT: "8526",
      NIVOT_VAR: process.env.NIVOT_E2E_VAR ?? "/tmp/nivot-e2e",
    },
    gracefulShutdown: { signal: "SIGTERM", timeout: 20_000 },
  },
});
