import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { onChange } from "../../api/live";
import { http, type Row, type Schemas } from "../../api/client";
import { randomId } from "../../parts/random";
import { useSession } from "../../parts/session";

export type Colleague = Schemas["Colleague"];

const beat = 5000;
const moved = 500;
const page = randomId();

const nowhere = {};
/** What nobody else can have open, since it has not been saved yet. */
export const unsaved = "new";

/** Says where this page is in a sheet, or in a rule or template of it by its id, and hears
 * who else is there. */
export function usePresence(sheet: string, at: { row?: string; column?: string } = nowhere, thing = "") {
  const [there, setThere] = useState<Colleague[]>([]);
  const place = useRef(at);
  const told = useRef<() => void>(() => {});
  useEffect(() => {
    place.current = at;
    const t = window.setTimeout(() => told.current(), moved);
    return () => window.clearTimeout(t);
  }, [at]);
  useEffect(() => {
    let on = true;
    const tell = async (leaves = false) => {
      try {
        const { data } = await http.POST("/sheets/{sheet}/presence", {
          params: { path: { sheet } },
          body: { page, ...place.current, thing, leaves },
          keepalive: leaves,
        });
        if (data && on && !leaves) setThere(data);
      } catch {
        // Heard again at the next beat.
      }
    };
    if (thing === unsaved) return;
    void tell();
    told.current = () => void tell();
    const t = window.setInterval(() => void tell(), beat);
    const leave = () => void tell(true);
    window.addEventListener("pagehide", leave);
    return () => {
      on = false;
      window.clearInterval(t);
      window.removeEventListener("pagehide", leave);
      leave();
    };
  }, [sheet, thing]);
  return there;
}

export function initials(name: string): string {
  const w = name
    .replace(/\(.*\)/, "")
    .trim()
    .split(/\s+/);
  return ((w[0]?.[0] ?? "") + (w.length > 1 ? (w[w.length - 1]?.[0] ?? "") : "")).toUpperCase();
}

// For how long a colleague's edit is shown as theirs.
const shown = 9000;

// What colleagues have just changed: for a row, who, and what its cells were
// before.
export function useTouched(sheet: string) {
  const client = useQueryClient();
  const me = useSession().person?.name;
  const [touched, setTouched] = useState(new Map<string, { who: string; cells: string[]; until: number }>());
  useEffect(() => {
    const stop = onChange((c) => {
      const fresh = Object.entries(c.actors ?? {}).filter(([, who]) => who !== me);
      if (fresh.length === 0 || !c.sheets.includes(sheet)) return;
      const before = new Map<string, Row>();
      for (const [, p] of client.getQueriesData<Schemas["RowPage"]>({ queryKey: ["rows", sheet] }))
        for (const r of p?.rows ?? []) before.set(r.id, r);
      setTouched((old) => {
        const next = new Map(old);
        for (const [row, who] of fresh) {
          const r = before.get(row);
          if (r)
            next.set(row, {
              who,
              cells: next.get(row)?.cells ?? r.cells.map((x) => x.text),
              until: Date.now() + shown,
            });
        }
        return next;
      });
    });
    const t = window.setInterval(() => {
      setTouched((old) => {
        const next = new Map([...old].filter(([, v]) => v.until > Date.now()));
        return next.size === old.size ? old : next;
      });
    }, 1500);
    return () => {
      stop();
      window.clearInterval(t);
    };
  }, [sheet, client, me]);
  return touched;
}
