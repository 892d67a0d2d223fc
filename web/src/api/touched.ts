import type { QueryKey } from "@tanstack/react-query";

// What one notification of the server says has changed.
export type Change = { kinds: string[]; sheets: string[]; rows: string[]; actors?: Record<string, string> };

// When something that is shown is asked again: at once, with others in a while, or not for this.
export type When = "now" | "later" | "no";

// Changes of these kinds touch the rows that they name, and no other's place but by their cells.
const edits = new Set(["row-edited", "row-gone", "row-back", "changed"]);
// The server names no more rows at a time.
const most = 200;

// What no cell of a row has to do with.
const apart = new Set(["/session", "/sheets/{sheet}/views", "/sheets/{sheet}/feeds", "/sheets/{sheet}/rules/deleted"]);

const plain = (view: unknown) => typeof view === "object" && view !== null && Object.keys(view).length === 0;

/** What has changed since something was asked again. */
export class Touched {
  private everything = false;
  private more = false; // than cells of rows
  private sheets = new Map<string, Set<string> | "whole">();

  take(c: Change) {
    if (c.kinds.includes("everything") || !c.sheets?.length) this.everything = true;
    if (!c.kinds.every((k) => edits.has(k))) this.more = true;
    const named = (c.rows?.length ?? 0) <= most && c.kinds.every((k) => edits.has(k) || k.startsWith("delivery-"));
    for (const s of c.sheets ?? []) {
      const rows = this.sheets.get(s) ?? new Set();
      if (!named || rows === "whole") this.sheets.set(s, "whole");
      else this.sheets.set(s, new Set([...rows, ...c.rows]));
    }
  }

  all() {
    this.everything = true;
  }

  clear() {
    this.everything = this.more = false;
    this.sheets.clear();
  }

  /** When an answer is asked again: of a window of rows, where it holds one that has changed. */
  when(key: QueryKey, data: unknown): When {
    if (this.everything) return "now";
    if (key[0] !== "rows") {
      if (this.sheets.size === 0 || (!this.more && apart.has(String(key[1])))) return "no";
      return this.more || String(key[1]).startsWith("/sheets/{sheet}/rows/") ? "now" : "later";
    }
    const rows = this.sheets.get(String(key[1]));
    if (!rows) return "no";
    const page = data as { rows?: { id: string }[] } | undefined;
    if (rows === "whole" || !page?.rows || page.rows.some((r) => rows.has(r.id))) return "now";
    return plain(key[2]) ? "no" : "later"; // a row may have come into a filter, or moved
  }
}
