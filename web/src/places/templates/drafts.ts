// What was written of a letter and not saved, kept in the browser until it is: through
// reloads, crashes and mistaken links.
import { useEffect, useState } from "react";

type Kept<D> = { at: string; version: number; draft: D };
const nameOf = (id: string) => `nivot-draft-${id}`;

function read<D>(id: string): Kept<D> | undefined {
  try {
    const text = localStorage.getItem(nameOf(id));
    return text ? (JSON.parse(text) as Kept<D>) : undefined;
  } catch {
    return undefined;
  }
}

/** Leaves a draft behind, to be taken up where its letter is opened. */
export function leaveDraft(id: string, draft: unknown): void {
  localStorage.setItem(nameOf(id), JSON.stringify({ at: new Date().toISOString(), version: 0, draft }));
}

/** The draft that was left behind, if there is one. */
export const leftDraft = <D>(id: string): D | undefined => read<D>(id)?.draft;

/** Keeps a draft while it differs from what is saved, and gives the one that was left behind
 * by an earlier visit, until it is taken up or dropped. */
export function useDraft<D>(id: string, draft: D, changed: boolean, version: number) {
  const [left, setLeft] = useState(() => {
    const kept = read<D>(id);
    return kept && JSON.stringify(kept.draft) !== JSON.stringify(draft) ? kept : undefined;
  });
  useEffect(() => {
    if (left) return; // what was left stays until somebody has said what becomes of it
    try {
      if (changed) localStorage.setItem(nameOf(id), JSON.stringify({ at: new Date().toISOString(), version, draft } satisfies Kept<D>));
      else localStorage.removeItem(nameOf(id));
    } catch {
      // The browser keeps nothing: leaving warns all the same.
    }
  }, [id, draft, changed, version, left]);
  return {
    left,
    taken: () => setLeft(undefined),
    drop: () => {
      localStorage.removeItem(nameOf(id));
      setLeft(undefined);
    },
  };
}
