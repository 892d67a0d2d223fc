// What the addresses of the places say beside their paths. The router checks
// them when a page is opened, whoever wrote the link; pages and links are typed
// by them.
import type { Schemas } from "./api/client";
import { onlyRows, type View } from "./places/sheets/view";

type Given = Record<string, unknown>;
const text = (x: unknown) => (typeof x === "string" && x !== "" ? x : typeof x === "number" ? String(x) : undefined);
function oneOf<T extends string>(x: unknown, of: readonly T[]): T | undefined {
  return of.find((o) => o === x);
}
// Leaves out what says nothing, so that addresses stay short.
function said<T extends object>(x: T): T {
  return Object.fromEntries(Object.entries(x).filter(([, v]) => v !== undefined)) as T;
}

/** What the log shows: which outcomes, of what, and the email whose slip is open. */
export type LogSearch = {
  show?: string;
  sheet?: string;
  rule?: string;
  row?: string;
  since?: string;
  to?: string;
  text?: string;
  email?: string;
  test?: string; // a test email
};
export const logSearch = (s: Given): LogSearch =>
  said({
    show: text(s.show),
    sheet: text(s.sheet),
    rule: text(s.rule),
    row: text(s.row),
    since: text(s.since),
    to: text(s.to),
    text: text(s.text),
    email: text(s.email),
    test: text(s.test),
  });

const slips = ["columns", "files", "history", "out", "imported", "rules"] as const;
/** Which slip of a sheet is open, and how the sheet is looked at. */
export type SheetSearch = {
  row?: string;
  why?: string; // beside row: the rule by which it is asked
  fix?: string; // beside row: the column whose cell is to be mended
  email?: string;
  cell?: string;
  slip?: (typeof slips)[number];
  column?: string;
  view?: string;
  show?: View;
  job?: string;
};
export const sheetSearch = (s: Given): SheetSearch =>
  said({
    row: text(s.row),
    why: text(s.why),
    fix: text(s.fix),
    email: text(s.email),
    cell: text(s.cell),
    slip: oneOf(s.slip, slips),
    column: text(s.column),
    view: text(s.view),
    show: viewOf(s.show),
    job: text(s.job),
  });

function viewOf(x: unknown): View | undefined {
  if (typeof x !== "object" || x === null) return undefined;
  const v = x as Given;
  return said({
    filter: typeof v.filter === "object" && v.filter !== null ? (v.filter as Schemas["Condition"]) : undefined,
    sort: Array.isArray(v.sort) ? (v.sort as Schemas["SortKey"][]) : undefined,
    find: text(v.find),
    only: onlyOf(v.only),
  });
}

function onlyOf(x: unknown): View["only"] {
  if (typeof x !== "object" || x === null) return undefined;
  const rows = oneOf(
    (x as Given).rows,
    onlyRows.map((o) => o.id),
  );
  return rows && said({ rows, rule: text((x as Given).rule) });
}

/** The way in which rows come. */
export const waysIn = ["file", "source", "form", "programs"] as const;
export type BringSearch = { from?: (typeof waysIn)[number] };
export const bringSearch = (s: Given): BringSearch => said({ from: oneOf(s.from, waysIn) });

/** From where a new rule is begun: a column and what is to be said of it, a
 * template, or the rows that were picked. */
export const beginnings = ["date", "change", "threshold", "edited", "by-hand"] as const;
export type RuleSearch = { when?: (typeof beginnings)[number]; column?: string; template?: string };
export const ruleSearch = (s: Given): RuleSearch =>
  said({ when: oneOf(s.when, beginnings), column: text(s.column), template: text(s.template) });

/** How a template's page was come to. */
export type TemplateSearch = { copy?: boolean };
export const templateSearch = (s: Given): TemplateSearch => said({ copy: s.copy === true ? true : undefined });
