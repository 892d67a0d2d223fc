import { Dialog } from "radix-ui";
import { useEffect, useRef } from "react";

const typing = "input, textarea, select, [contenteditable=true], [role=grid], [role=menu], [role=listbox]";
// For how long the first key of two waits for the second, in milliseconds.
const together = 1500;
let led = { key: "", at: 0 };

/** Calls a handler for a key, given as "?", for two one after the other, "g t", or for
 * one with a modifier, "ctrl+s". Those without a modifier are not meant where somebody
 * types, or in the grid. */
export function useKey(keys: string, handler: () => void, on = true) {
  const latest = useRef(handler);
  useEffect(() => {
    latest.current = handler;
  });
  useEffect(() => {
    if (!on) return;
    const [first, second] = keys.startsWith("ctrl+") ? [undefined, keys.slice(5)] : keys.length > 1 ? keys.split(" ") : [undefined, keys];
    const press = (e: KeyboardEvent) => {
      if (e.altKey || e.defaultPrevented) return;
      if (keys.startsWith("ctrl+")) {
        if (!(e.ctrlKey || e.metaKey) || e.key.toLowerCase() !== second) return;
      } else {
        if (e.ctrlKey || e.metaKey || (e.target as HTMLElement).closest(typing)) return;
        const lead = led.at > e.timeStamp - together && led.at !== e.timeStamp ? led.key : "";
        if (e.key === first) led = { key: e.key, at: e.timeStamp };
        if (e.key !== second || (first ?? "") !== lead) return;
        led = { key: "", at: 0 };
      }
      e.preventDefault();
      latest.current();
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [keys, on]);
}

const groups: [string, [string, string][]][] = [
  [
    "Everywhere",
    [
      ["g, then t s m l u", "Today, Sheets, Templates, Log, Setup"],
      ["s", "search"],
      ["Ctrl S", "save"],
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
      ["Delete", "clear the cells"],
      ["Ctrl C, Ctrl X, Ctrl V", "copy, cut, paste"],
      ["Ctrl D", "fill down"],
      ["Ctrl Z, Ctrl Y", "undo, redo"],
      ["Ctrl Enter", "insert rows below"],
      ["Ctrl Delete", "delete the rows"],
      ["F8", "the cell’s history"],
      ["Ctrl F", "find, or go to a key"],
      ["Space", "open the row’s slip"],
      ["Alt →, Alt ←", "along the row’s emails; Enter opens one"],
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
      ["[", "insert a field"],
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
