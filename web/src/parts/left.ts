// What of a person's work the browser holds: cells that could not be sent yet, and drafts. It
// goes when they sign out.

/** What the names begin with under which the browser holds cells, and drafts, of a person. */
export const cellsOf = (person: string) => `unsent:${person}:`;
export const draftsOf = (person: string) => `nivot-draft-${person}-`;

/** How many pieces of unsaved work the browser holds of a person. */
export function unsavedOf(person: string): number {
  return names(localStorage).filter((n) => n.startsWith(cellsOf(person)) || n.startsWith(draftsOf(person))).length;
}

/** Forgets all that shows what was worked on; how the page looks stays. */
export function forgetWork(): void {
  for (const n of names(localStorage)) if (n !== "look" && n !== "margin") localStorage.removeItem(n);
  sessionStorage.clear();
}

function names(of: Storage): string[] {
  return Array.from({ length: of.length }, (_, i) => of.key(i) ?? "").filter(Boolean);
}
