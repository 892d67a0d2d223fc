import type { QueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { base } from "./base";
import { connection } from "./connection";
import { keys } from "./keys";

export type Change = { kinds: string[]; sheets: string[]; rows: string[]; actors?: Record<string, string> };

const listeners = new Set<(c: Change) => void>();

// Hears of every change on the server before what is shown is asked again.
export function onChange(f: (c: Change) => void): () => void {
  listeners.add(f);
  return () => listeners.delete(f);
}

// The first change after a rest is asked for at once, the others together.
const rest = 500;
// For how long a break is not worth a word, and after how long a refused stream is asked
// for again.
const bearable = 2000;
const reconnect = 3000;

// Asks again what changed, as the server tells: one stream a page, and at most
// two rounds a second however much happens.
export function useLive(client: QueryClient, on: boolean) {
  useEffect(() => {
    if (!on) return;
    let source: EventSource;
    let timer = 0;
    let silent = 0; // a short break is not told
    let retry = 0;
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
        predicate: (q) =>
          q.meta?.still !== true && (everything || q.queryKey[0] !== "rows" || touched.has(String(q.queryKey[1]))),
      });
    };
    const soon = () => {
      if (!timer) timer = window.setTimeout(again, Math.max(30, last + rest - Date.now()));
    };
    let opened = false;
    const listen = () => {
      source = new EventSource(`${base}/api/events`);
      source.addEventListener("change", (e) => {
        const c = JSON.parse((e as MessageEvent<string>).data) as Change;
        if (c.kinds.includes("everything") || !c.sheets?.length) all = true;
        for (const s of c.sheets ?? []) sheets.add(s);
        for (const f of listeners) f({ ...c, sheets: c.sheets ?? [] });
        soon();
      });
      source.addEventListener("open", () => {
        window.clearTimeout(silent);
        silent = 0;
        connection.reached();
        if (opened) {
          all = true; // back after a break: something may have been missed
          soon();
        }
        opened = true;
      });
      source.addEventListener("error", () => {
        silent ||= window.setTimeout(() => connection.lost(), bearable);
        // The browser tries again by itself, unless it was refused.
        if (source.readyState === EventSource.CLOSED) {
          void client.invalidateQueries({ queryKey: keys.session });
          window.clearTimeout(retry);
          retry = window.setTimeout(listen, reconnect);
        }
      });
    };
    listen();
    return () => {
      source.close();
      for (const t of [timer, silent, retry]) window.clearTimeout(t);
    };
  }, [client, on]);
}
