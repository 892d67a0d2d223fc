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
    const [first, second] = keys.startsWith("ctrl+")
      ? [undefined, keys.slice(5)]
      : keys.length > 1
        ? keys.split(" ")
        : [undefined, keys];
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
