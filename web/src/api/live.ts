import type { QueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { base } from "./base";
import { connection } from "./connection";
import { keys } from "./keys";
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
// For how long a break is not worth a word, and after how long a refused stream is asked
// for again.
const bearable = 2000;
const reconnect = 3000;

// Asks again what changed, as the server tells: one stream a page, at most two rounds a second
// however much happens, and of rows only windows that hold one that has changed.
export function useLive(client: QueryClient, on: boolean) {
  useEffect(() => {
    if (!on) return;
    let source: EventSource;
    let silent = 0; // a short break is not told
    let retry = 0;
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
    const listen = () => {
      source = new EventSource(`${base}/api/events`);
      source.addEventListener("change", (e) => {
        const c = JSON.parse((e as MessageEvent<string>).data) as Change;
        for (const f of listeners) f({ ...c, sheets: c.sheets ?? [] });
        for (const r of rounds) {
          r.touched.take(c);
          r.soon();
        }
      });
      source.addEventListener("open", () => {
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
      for (const r of rounds) r.end();
      for (const t of [silent, retry]) window.clearTimeout(t);
    };
  }, [client, on]);
}
