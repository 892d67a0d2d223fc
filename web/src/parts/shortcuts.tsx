import { Dialog } from "radix-ui";
import { useEffect, useRef } from "react";

// Calls a handler for one of these keys pressed outside fields and the grid.
export function useKey(keys: string, handler: (key: string) => void, on = true) {
  const latest = useRef(handler);
  useEffect(() => {
    latest.current = handler;
  });
  useEffect(() => {
    if (!on) return;
    const press = (e: KeyboardEvent) => {
      const t = e.target as HTMLElement;
      if (e.ctrlKey || e.metaKey || e.altKey || e.key.length !== 1 || !keys.includes(e.key)) return;
      if (t.closest("input, textarea, select, [contenteditable=true], [role=grid]")) return;
      e.preventDefault();
      latest.current(e.key);
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [keys, on]);
}

const groups: [string, [string, string][]][] = [
  [
    "Everywhere",
    [
      ["1 to 5", "the places"],
      ["s", "search"],
      ["?", "this list"],
      ["Esc", "close a slip or picker"],
    ],
  ],
  [
    "In the grid",
    [
      ["arrows, Ctrl arrows", "move, to the edge"],
      ["↑ from the first row", "the column’s head; Enter says what it can do"],
      ["Shift arrows", "select several cells"],
      ["Shift Space", "select whole rows"],
      ["Ctrl A", "select all"],
      ["Enter or F2", "edit the cell"],
      ["letters", "type over the cell"],
      ["Tab", "next cell"],
      ["Alt Enter", "a new line in the cell"],
      ["Alt ↓", "from a date into its days"],
      ["Esc", "leave the cell as it was"],
      ["Delete", "empty the cells"],
      ["Ctrl C, Ctrl X, Ctrl V", "copy, cut, paste"],
      ["Ctrl D", "fill down"],
      ["Ctrl Z, Ctrl Y", "undo, do again"],
      ["Ctrl Enter", "put rows in below"],
      ["Ctrl Delete", "delete the rows"],
      ["F8", "the cell’s history"],
      ["Ctrl F", "find, or go to a key"],
      ["Space", "open the row’s slip"],
    ],
  ],
  [
    "In a sheet",
    [
      ["/", "filter"],
      ["n", "add a row"],
    ],
  ],
  [
    "In a template or slip",
    [
      [",", "previous row"],
      [".", "next row"],
      ["[", "put in a field"],
    ],
  ],
];

export function Shortcuts({ open, onOpenChange }: { open: boolean; onOpenChange: (o: boolean) => void }) {
  return (
    <Dialog.Root open={open} onOpenChange={onOpenChange}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/10" />
        <Dialog.Content
          className="pop fixed top-14 left-1/2 z-50 max-h-[86vh] w-[680px] overflow-auto max-w-[94vw] -translate-x-1/2 p-6"
          aria-describedby={undefined}
        >
          <Dialog.Title className="mb-3 font-letter text-lg font-semibold">By keyboard</Dialog.Title>
          <div className="grid grid-cols-2 gap-x-8 gap-y-4">
            {groups.map(([name, keys]) => (
              <section key={name}>
                <h3 className="mb-1 text-xs font-[650] text-ink-2">{name}</h3>
                {keys.map(([k, what]) => (
                  <div key={k} className="flex justify-between gap-4 border-b border-hair-2 py-1">
                    <span>{what}</span>
                    <kbd className="key self-center">{k}</kbd>
                  </div>
                ))}
              </section>
            ))}
          </div>
          <Dialog.Close className="link mt-4">close</Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
