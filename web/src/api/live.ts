import type { QueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

export type Change = { kinds: string[]; sheets: string[]; rows: string[]; actors?: Record<string, string> };

const listeners = new Set<(c: Change) => void>();

// Hears of every change on the server before what is shown is asked again.
export function onChange(f: (c: Change) => void): () => void {
  listeners.add(f);
  return () => listeners.delete(f);
}

// The first change after a rest is asked for at once, the others together.
const rest = 500;

// Asks again what changed, as the server tells: one stream a page, and at most
// two rounds a second however much happens.
export function useLive(client: QueryClient, on: boolean) {
  useEffect(() => {
    if (!on) return;
    const source = new EventSource("/api/events");
    let timer = 0;
    let last = 0;
    let all = false;
    let sheets = new Set<string>();
    const again = () => {
      timer = 0;
      last = Date.now();
      const [everything, touched] = [all, sheets];
      all = false;
      sheets = new Set();
      // The rows of a sheet are asked again only where that sheet changed.
      void client.invalidateQueries({
        predicate: (q) => q.meta?.still !== true && (everything || q.queryKey[0] !== "rows" || touched.has(String(q.queryKey[1]))),
      });
    };
    const soon = () => {
      if (!timer) timer = window.setTimeout(again, Math.max(30, last + rest - Date.now()));
    };
    let opened = false;
    source.addEventListener("change", (e) => {
      const c = JSON.parse((e as MessageEvent<string>).data) as Change;
      if (c.kinds.includes("everything") || !c.sheets?.length) all = true;
      for (const s of c.sheets ?? []) sheets.add(s);
      for (const f of listeners) f({ ...c, sheets: c.sheets ?? [] });
      soon();
    });
    source.addEventListener("open", () => {
      if (opened) {
        all = true; // back after a break: something may have been missed
        soon();
      }
      opened = true;
    });
    return () => {
      source.close();
      window.clearTimeout(timer);
    };
  }, [client, on]);
}
