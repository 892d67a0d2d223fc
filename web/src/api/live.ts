import type { QueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { connection } from "./connection";
import { keys } from "./keys";
import { listen } from "./stream";
import { type Change, Touched, type When } from "./touched";

const listeners = new Set<(c: Change) => void>();

// Hears of every change on the server before what is shown is asked again.
export function onChange(f: (c: Change) => void): () => void {
  listeners.add(f);
  return () => listeners.delete(f);
}

// The first change after a rest is asked for at once, the others together; what may wait, as the
// figures of a sheet while cells are edited, with more of them.
const rests = { now: 500, later: 5000 };
const first = { now: 30, later: 200 };
// For how long a break is not worth a word.
const bearable = 2000;

// Asks again what changed, as the server tells: one stream for all pages, at most two rounds a second
// however much happens, and of rows only windows that hold one that has changed.
export function useLive(client: QueryClient, on: boolean) {
  useEffect(() => {
    if (!on) return;
    let silent = 0; // a short break is not told
    const rounds = (["now", "later"] as const).map((when: Exclude<When, "no">) => {
      const touched = new Touched();
      let timer = 0;
      let last = 0;
      const ask = () => {
        timer = 0;
        last = Date.now();
        void client.invalidateQueries({
          predicate: (q) => q.meta?.still !== true && touched.when(q.queryKey, q.state.data) === when,
        });
        touched.clear();
      };
      return {
        touched,
        soon: () => {
          if (!timer) timer = window.setTimeout(ask, Math.max(first[when], last + rests[when] - Date.now()));
        },
        end: () => window.clearTimeout(timer),
      };
    });
    let opened = false;
    const end = listen((h) => {
      switch (h.what) {
        case "change": {
          const c = JSON.parse(h.data) as Change;
          for (const f of listeners) f({ ...c, sheets: c.sheets ?? [] });
          for (const r of rounds) {
            r.touched.take(c);
            r.soon();
          }
          return;
        }
        case "open":
          window.clearTimeout(silent);
          silent = 0;
          connection.reached();
          if (opened) {
            for (const r of rounds) {
              r.touched.all(); // back after a break: something may have been missed
              r.soon();
            }
          }
          opened = true;
          return;
        case "lost":
          silent ||= window.setTimeout(() => connection.lost(), bearable);
          return;
        case "refused":
          void client.invalidateQueries({ queryKey: keys.session });
      }
    });
    return () => {
      end();
      for (const r of rounds) r.end();
      window.clearTimeout(silent);
    };
  }, [client, on]);
}
