import createFetchClient from "openapi-fetch";
import createClient from "openapi-react-query";
import { base } from "./base";
import { connection } from "./connection";
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

// A request that nothing comes back for is given up, so that it can be tried again, in milliseconds.
const patience = 60_000;

// Every request goes through here: what it tells of the connection is told on, and a
// fault of the network is a problem like any other.
async function ask(request: Request, waits = patience): Promise<Response> {
  let answer: Response;
  try {
    answer = await fetch(
      request,
      waits < Infinity ? { signal: AbortSignal.any([request.signal, AbortSignal.timeout(waits)]) } : {},
    );
  } catch (e) {
    if (request.signal.aborted) throw e; // nobody wants to know any more
    connection.lost();
    throw new Failure({ type: "about:blank", status: 0, title: awayWords });
  }
  connection.reached();
  if (answer.status === 401 && !request.url.endsWith("/api/session")) connection.ended();
  return answer;
}

export const http = createFetchClient<paths>({ baseUrl: `${base}/api`, fetch: (r) => ask(r) });
export const api = createClient(http);

/** What the server refused, thrown; without a server its problem says so. */
export class Failure extends Error {
  constructor(readonly problem: Problem) {
    super(problem.title);
  }
}

const awayWords = "Nivot cannot be reached. What you typed is kept; try again in a moment.";
const garbledWords = "The answer of the server cannot be read. What you typed is kept; try again in a moment.";

/** What went wrong, as the server says it; without a server, that it is away. */
export function problemOf(error: unknown): Problem {
  if (error instanceof Failure) return error.problem;
  if (typeof error === "object" && error !== null && "title" in error) return error as Problem;
  if (error instanceof SyntaxError) return { type: "about:blank", status: 502, title: garbledWords };
  return { type: "about:blank", status: 0, title: awayWords };
}

/** Reports whether what failed may succeed if it is tried again as it is. */
export const passing = (p: Problem): boolean =>
  p.status === 0 || p.status === 408 || p.status === 429 || p.status >= 500;

/** What to say about an error. */
export const words = (error: unknown): string => problemOf(error).title;

/** The answer to a request, or a Failure. */
export async function take<T>(request: Promise<{ data?: T; error?: unknown }>): Promise<T> {
  const { data, error } = await request.catch((e: unknown) => ({ data: undefined, error: e ?? awayWords }));
  if (error !== undefined) throw new Failure(problemOf(error));
  return data as T;
}

/** Sends a form with a file, which the typed client does not do. */
export async function upload<T>(path: string, parts: Record<string, string | File>): Promise<T> {
  const form = new FormData();
  for (const [k, v] of Object.entries(parts)) form.append(k, v);
  return take(read<T>(`${base}/api${path}`, { method: "POST", body: form }));
}

/** Fetches what is no JSON. */
export async function download(path: string): Promise<Blob> {
  const res = await ask(new Request(new URL(`${base}/api${path}`, location.origin)));
  if (!res.ok) throw new Failure(problemOf(await res.json().catch(() => undefined)));
  return res.blob();
}

async function read<T>(path: string, init: RequestInit): Promise<{ data?: T; error?: unknown }> {
  const res = await ask(new Request(new URL(path, location.origin), init), Infinity); // a file takes its time
  const body = (await res.json().catch(() => {
    throw new Failure({ type: "about:blank", status: res.status, title: garbledWords });
  })) as T;
  return res.ok ? { data: body } : { error: body };
}
