// What has been typed but not been taken by the server yet: one queue for all
// tabs, kept over a reload of the page. Each change stands under a key of its
// own, so that two tabs cannot write over each other.
import type { Schemas } from "../../api/client";

export type Step = Schemas["Step"];
export type Kind = "edit" | "paste" | "fill" | "clear" | "add" | "delete" | "cut" | "put-back" | "replace" | "merge";

/** A change that waits. Its id makes it once, however often it is sent. */
export type Change = { id: string; page: string; kind: Kind; steps: Step[]; ask?: boolean };

/** What is needed of a browser's storage. */
export type Shelf = Pick<Storage, "length" | "key" | "getItem" | "setItem" | "removeItem">;

export class Unsent {
  private last = 0;
  // What the storage has no room for is kept by this page alone.
  private readonly own = new Map<string, Change>();

  /** place names whose queue of which sheet it is; page is this tab. */
  constructor(
    private readonly shelf: Shelf,
    private readonly place: string,
    readonly page: string,
    private readonly now: () => number = Date.now,
  ) {}

  /** Puts a change at the end. */
  add(c: Omit<Change, "page">): Change {
    const change = { ...c, page: this.page };
    // Later than the one before, also where the clock was set back meanwhile.
    this.last = Math.max(this.now(), this.last + 1);
    const key = `${this.place}:${String(this.last).padStart(15, "0")}:${c.id}`;
    try {
      this.shelf.setItem(key, JSON.stringify(change));
    } catch {
      this.own.set(key, change);
    }
    return change;
  }

  /** All that waits, of every tab, in the order in which it was typed. */
  list(): Change[] {
    return this.entries().map(([, c]) => c);
  }

  remove(id: string): void {
    for (const [key, c] of this.entries()) {
      if (c.id !== id) continue;
      this.own.delete(key);
      this.shelf.removeItem(key);
    }
  }

  /** Takes the last change of this tab out again, unless it is on its way. */
  takeBack(sending?: string): Change | undefined {
    const c = this.list()
      .filter((x) => x.page === this.page)
      .pop();
    if (!c || c.id === sending) return undefined;
    this.remove(c.id);
    return c;
  }

  /** Whether a storage key is one of this queue. */
  holds(key: string | null): boolean {
    return key === null || key.startsWith(`${this.place}:`);
  }

  private entries(): [string, Change][] {
    const out = new Map(this.own);
    for (let i = 0; i < this.shelf.length; i++) {
      const key = this.shelf.key(i);
      if (key === null || !key.startsWith(`${this.place}:`)) continue;
      const c = read(this.shelf.getItem(key));
      if (c) out.set(key, c);
    }
    return [...out].sort(([a], [b]) => (a < b ? -1 : a > b ? 1 : 0));
  }
}

// A change as it was kept; undefined where it cannot be read.
function read(text: string | null): Change | undefined {
  try {
    const c = JSON.parse(text ?? "") as Partial<Change>;
    return typeof c.id === "string" && Array.isArray(c.steps) ? (c as Change) : undefined;
  } catch {
    return undefined;
  }
}

/** What an answer's status says of a change: it is taken, it is refused for
 * good, or it is sent again later. */
export function verdict(status: number): "taken" | "refused" | "later" {
  if (status >= 200 && status < 300) return "taken";
  // Signed out, still being done, too many at a time, or the server is at fault.
  return status >= 500 || [0, 401, 408, 409, 429].includes(status) ? "later" : "refused";
}

/** The texts that wait, by row and column. */
export function pendingTexts(list: Change[]): Map<string, string> {
  const out = new Map<string, string>();
  for (const c of list)
    for (const s of c.steps)
      for (const [column, text] of Object.entries(s.cells ?? {})) out.set(`${s.row}|${column}`, text);
  return out;
}
