// Measures the grid of a large sheet: node gridbench.mjs ADDRESS SHEET. Prints
// the time until the first rows are painted, and the frames while scrolling,
// in milliseconds.
import { chromium } from "@playwright/test";

const [base, sheet] = process.argv.slice(2);
const browser = await chromium.launch({
  executablePath: process.env.CHROMIUM ?? "/usr/bin/chromium-headless-shell",
  args: ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--no-first-run"],
});
const page = await browser.newPage({ viewport: { width: 1280, height: 800 }, locale: "en-GB" });
await page.goto(`${base}/`);
await page.getByLabel("Email address").fill("bench@marrowby.example");
await page.getByLabel("Password").fill("weathercock-1790");
await page.getByRole("button", { name: "Sign in" }).click();
await page.getByRole("link", { name: "Sheets", exact: true }).click();
await page.getByRole("link", { name: "Loans" }).waitFor();

const median = (v) => v.sort((a, b) => a - b)[Math.floor(v.length / 2)] ?? 0;
const paints = [];
for (let i = 0; i < 5; i++) {
  const start = Date.now();
  await page.getByRole("link", { name: "Loans" }).click();
  await page.getByRole("rowheader", { name: /LN-0000000/ }).waitFor();
  paints.push(Date.now() - start);
  if (i < 4) {
    await page.getByRole("link", { name: "Sheets", exact: true }).click();
    await page.getByRole("link", { name: "Loans" }).waitFor();
  }
}
// Flicks of the wheel, and a pull of the bar through the whole sheet.
const frames = await page.evaluate(async () => {
  const grid = document.querySelector("[role=grid]");
  const out = [];
  let last = performance.now();
  const height = grid.scrollHeight;
  for (let i = 0; i < 240; i++) {
    grid.scrollTop = i < 120 ? grid.scrollTop + 240 : (height * (i - 120)) / 120;
    await new Promise((done) => requestAnimationFrame(done));
    const now = performance.now();
    out.push(now - last);
    last = now;
  }
  return out;
});
console.log(JSON.stringify({ paint: median(paints), frame: median([...frames]), worst: Math.max(...frames) }));
await browser.close();
