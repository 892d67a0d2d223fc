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

/** What the server refused, thrown; without a server its problem says so. */
export class Failure extends Error {
  constructor(readonly problem: Problem) {
    super(problem.title);
  }
}

const awayWords = "Nivot cannot be reached. What you typed is kept; try again in a moment.";

/** What went wrong, as the server says it; without a server, that it is away. */
export function problemOf(error: unknown): Problem {
  if (error instanceof Failure) return error.problem;
  if (typeof error === "object" && error !== null && "title" in error) return error as Problem;
  return { type: "about:blank", status: 0, title: awayWords };
}

/** What to say about an error. */
export const words = (error: unknown): string => problemOf(error).title;

/** The answer to a request, or a Failure. */
export async function take<T>(request: Promise<{ data?: T; error?: unknown }>): Promise<T> {
  const { data, error } = await request.catch((e: unknown) => ({ data: undefined, error: e ?? awayWords }));
  if (error !== undefined) throw new Failure(problemOf(error));
  return data as T;
}

// Sends a form with a file, which the typed client does not do.
export async function upload<T>(path: string, parts: Record<string, string | File>): Promise<T> {
  const form = new FormData();
  for (const [k, v] of Object.entries(parts)) form.append(k, v);
  const send = async () => {
    const res = await fetch(`/api${path}`, { method: "POST", body: form });
    const body: unknown = await res.json();
    return res.ok ? { data: body as T } : { error: body };
  };
  return take(send());
}
