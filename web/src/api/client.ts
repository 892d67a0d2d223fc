import createFetchClient from "openapi-fetch";
import createClient from "openapi-react-query";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Problem = Schemas["Problem"];
export type Sheet = Schemas["Sheet"];
export type Column = Schemas["Column"];
export type Row = Schemas["Row"];
export type Mark = Schemas["Mark"];
export type MarkKind = Schemas["MarkKind"];
export type Rule = Schemas["Rule"];
export type RuleBody = Schemas["RuleBody"];
export type Condition = Schemas["Condition"];
export type Template = Schemas["Template"];
export type Node = Schemas["Node"];
export type LogLine = Schemas["LogLine"];
export type Session = Schemas["Session"];

export const http = createFetchClient<paths>({ baseUrl: "/api" });
export const api = createClient(http);

// What to say about an error: a problem's title, or that the server is away.
export function words(error: unknown): string {
  if (error && typeof error === "object" && "title" in error) return String((error as Problem).title);
  return "Nivot cannot be reached. What you typed is kept; try again in a moment.";
}

// Sends a form with a file, which the typed client does not do.
export async function upload<T>(path: string, parts: Record<string, string | File>): Promise<T> {
  const form = new FormData();
  for (const [k, v] of Object.entries(parts)) form.append(k, v);
  const res = await fetch(`/api${path}`, { method: "POST", body: form });
  const body = await res.json();
  if (!res.ok) throw body as Problem;
  return body as T;
}
