import { mkdirSync, writeFileSync } from "node:fs";
import type { FullConfig, Reporter, TestCase, TestError, TestResult } from "@playwright/test/reporter";

/** Keeps what failed in a few lines each, in failures.txt beside the pictures of it. */
export default class Failures implements Reporter {
  private dir = "";
  private said: string[] = [];

  onBegin(config: FullConfig) {
    this.dir = config.projects[0]?.outputDir ?? "results";
  }

  onTestEnd(test: TestCase, result: TestResult) {
    if (result.status === test.expectedStatus) return;
    this.said.push(`${test.titlePath().slice(2).join(" › ")}: ${result.status} after ${result.duration} ms`);
    for (const e of result.errors) this.onError(e);
  }

  /** Also of what belongs to no test, as a program that does not start. */
  onError(e: TestError) {
    const text = (e.message ?? e.value ?? "").replace(/\x1b\[[0-9;]*m/g, ""); // colours
    const lines = text.split("\n").filter((l) => l.trim());
    this.said.push(...lines.slice(0, 12).map((l) => `    ${l.slice(0, 300)}`));
    if (e.location) this.said.push(`    at ${e.location.file}:${e.location.line}`);
  }

  onEnd() {
    mkdirSync(this.dir, { recursive: true });
    writeFileSync(`${this.dir}/failures.txt`, this.said.map((l) => `${l}\n`).join(""));
  }
}
