// The keys under which the answers of the server are kept. What a write changes
// is asked again by these, and nothing else; what others change is heard from
// the server (live.ts).
import type { QueryClient, QueryKey } from "@tanstack/react-query";

const path = (p: string): QueryKey => ["get", p];

export const keys = {
  session: path("/session"),
  today: path("/today"),
  sheets: path("/sheets"),
  awaySheets: path("/away-sheets"),
  sheet: path("/sheets/{sheet}"),
  rules: path("/sheets/{sheet}/rules"),
  rule: path("/sheets/{sheet}/rules/{rule}"),
  views: path("/sheets/{sheet}/views"),
  source: path("/sheets/{sheet}/source"),
  form: path("/sheets/{sheet}/form"),
  row: path("/sheets/{sheet}/rows/{row}"),
  sheetFiles: path("/sheets/{sheet}/files"),
  cell: path("/sheets/{sheet}/rows/{row}/cells/{column}"),
  templates: path("/templates"),
  template: path("/sheets/{sheet}/templates/{template}"),
  log: path("/log"),
  coming: path("/coming"),
  delivery: path("/deliveries/{delivery}"),
  senders: path("/setup/senders"),
  personLimit: path("/setup/person-limit"),
  calendars: path("/calendars"),
  silenced: path("/setup/do-not-email"),
  people: path("/people"),
  tokens: path("/tokens"),
  signedIn: path("/me/sessions"),
  fetching: path("/setup/sources"),
  mailbox: path("/practice/messages"),
  rows: (sheet: string): QueryKey => ["rows", sheet],
  logPages: ["log"] as QueryKey,
  said: (sheet: string): QueryKey => ["said", sheet],
  foreseen: (sheet: string): QueryKey => ["foreseen", sheet],
  effect: (sheet: string): QueryKey => ["effect", sheet],
  explain: (sheet: string): QueryKey => ["explain", sheet],
  job: (id: string): QueryKey => ["job", id],
  audit: (filter: unknown): QueryKey => ["audit", filter],
  sheetHistory: (sheet: string): QueryKey => ["history", sheet],
  columnsEffect: (sheet: string, body: string): QueryKey => ["columns-effect", sheet, body],
  calendarEffect: (calendar: string, body: string): QueryKey => ["calendar-effect", calendar, body],
  letterEffect: (template: string, body: unknown): QueryKey => ["letter-effect", template, body],
  summary: (sheet: string, body: string): QueryKey => ["summary", sheet, body],
  tryRows: (sheet: string, find: string): QueryKey => ["try", sheet, find],
  checks: (sheet: string): QueryKey => ["checks", sheet],
  pieces: path("/pieces"),
  file: (file: string): QueryKey => ["file", file],
  html: (sheet: string, body: unknown): QueryKey => ["html", sheet, body],
  preview: (sheet: string): QueryKey => ["preview", sheet],
} as const;

/** What shows the emails: after a decision about one. */
export const ofEmails = [keys.today, keys.log, keys.logPages, keys.delivery, keys.sheet, keys.sheets, keys.row];
/** What shows a sheet and what its rules do. */
export const ofSheet = (sheet: string) => [
  keys.sheet,
  keys.sheets,
  keys.rules,
  keys.rule,
  keys.today,
  keys.sheetHistory(sheet),
  keys.cell,
  keys.row,
  keys.rows(sheet),
  keys.said(sheet),
  keys.foreseen(sheet),
  keys.effect(sheet),
  keys.explain(sheet),
  ["summary", sheet],
];

/** Asks again what stands under some keys. */
export async function refresh(client: QueryClient, list: readonly QueryKey[]): Promise<void> {
  await Promise.all(list.map((queryKey) => client.invalidateQueries({ queryKey })));
}
