// Names of things: how long they may be, said where one is typed.

/** How many characters a name has at the most. */
export const longestName = 120;

/** Says so once a name is as long as it may be: nothing more is taken. */
export function NameLimit({ name }: { name: string }) {
  if ([...name].length < longestName) return null;
  return (
    <span role="status" className="font-sans text-[13px] text-marigold">
      {" "}
      A name has {longestName} characters at the most.
    </span>
  );
}

/** Says to a reader that the page is to be looked at alone. */
export function LookOnly({ what }: { what: string }) {
  return (
    <p role="note" className="text-ink-2">
      You may look at this {what}, not change it.
    </p>
  );
}

/** A name that nobody has yet, of one that may be taken. */
export function freeName(name: string, taken: string[]): string {
  const cut = (after: string) => [...name].slice(0, longestName - after.length).join("") + after;
  for (let n = 1; ; n++) {
    const free = cut(n === 1 ? "" : ` ${n}`);
    if (!taken.includes(free)) return free;
  }
}
