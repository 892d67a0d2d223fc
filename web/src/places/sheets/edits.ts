import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { toast } from "sonner";
import { http, type Row, type Schemas, type Sheet, words } from "../../api/client";
import { randomId } from "../../parts/random";
import { useSession } from "../../parts/session";
import { count } from "../../parts/time";

export type Step = Schemas["Step"];
export type Clash = Schemas["CellConflict"];
export type Kind = "edit" | "paste" | "fill" | "clear" | "add" | "delete" | "cut" | "put-back" | "replace";
type Page = Schemas["RowPage"];
// The id makes it once of a change that is sent again, for want of an answer.
type Change = { id: string; kind: Kind; steps: Step[]; done?: (r: Schemas["ChangeResult"]) => void };

const retryEvery = 2000;

// What has been typed but not been taken by the server is kept here, also over
// a reload of the page.
function restore(place: string): Change[] {
  try {
    return JSON.parse(localStorage.getItem(place) ?? "[]") as Change[];
  } catch {
    return [];
  }
}

// Changes of a sheet's rows: one after the other, shown at once, tried again
// until the server has them, undone and done again.
export function useEdits(sheet: Sheet) {
  const client = useQueryClient();
  const place = `unsaved:${useSession().person?.id}:${sheet.id}`;
  const queue = useRef<Change[]>(restore(place));
  const busy = useRef(false);
  const undos = useRef<string[]>([]);
  const redos = useRef<string[]>([]);
  const [waiting, setWaiting] = useState<Change[]>(queue.current);
  const [away, setAway] = useState(false);
  const [clashes, setClashes] = useState<Clash[]>([]);

  const keep = useCallback(() => {
    setWaiting([...queue.current]);
    if (queue.current.length > 0) localStorage.setItem(place, JSON.stringify(queue.current));
    else localStorage.removeItem(place);
  }, [place]);

  const replace = useCallback(
    (rows: Row[]) => {
      const by = new Map(rows.map((r) => [r.id, r]));
      client.setQueriesData<Page>({ queryKey: ["rows", sheet.id] }, (p) => p && { ...p, rows: p.rows.map((r) => by.get(r.id) ?? r) });
    },
    [client, sheet.id],
  );
  const again = useCallback(async () => {
    await client.invalidateQueries({ queryKey: ["rows", sheet.id] });
    await client.invalidateQueries({ queryKey: ["get", "/sheets/{sheet}"] });
  }, [client, sheet.id]);

  const take = useCallback(
    (c: Change, r: Schemas["ChangeResult"]) => {
      replace(r.rows);
      if (r.id) {
        undos.current.push(r.id);
        redos.current = [];
      }
      if (r.conflicts.length > 0) setClashes((list) => [...list, ...r.conflicts]);
      if (c.kind !== "edit" && r.cells + r.added.length > 1)
        toast(
          `${c.kind === "clear" ? "Emptied" : "Changed"} ${count(r.cells, "cell")}${r.added.length > 0 ? ` and added ${count(r.added.length, "row")}` : ""}.${r.unreadable > 0 ? ` ${count(r.unreadable, "cell does", "cells do")} not fit and ${r.unreadable === 1 ? "is" : "are"} marked.` : ""}`,
        );
      c.done?.(r);
      if (c.kind !== "edit" || c.steps.some((s) => s.op !== "edit")) void again();
    },
    [again, replace],
  );

  const pump = useCallback(async () => {
    if (busy.current) return;
    busy.current = true;
    while (queue.current.length > 0) {
      const c = queue.current[0] as Change;
      let settled = false;
      try {
        const { data, error, response } = await http.POST("/sheets/{sheet}/changes", {
          params: { path: { sheet: sheet.id } },
          body: { kind: c.kind, steps: c.steps },
          headers: { "Idempotency-Key": c.id },
        });
        if (data) {
          settled = true;
          take(c, data);
        } else if (response.status < 500 && response.status !== 429 && response.status !== 401 && response.status !== 409) {
          settled = true;
          toast.error(words(error));
          void again();
        }
      } catch {
        // Away: tried again.
      }
      if (!settled) break;
      queue.current.shift();
      keep();
      setAway(false);
    }
    busy.current = false;
    if (queue.current.length > 0) setAway(true);
  }, [sheet.id, take, keep, again]);

  useEffect(() => {
    void pump();
    const t = window.setInterval(() => queue.current.length > 0 && void pump(), retryEvery);
    return () => window.clearInterval(t);
  }, [pump]);

  const change = useCallback(
    (kind: Kind, steps: Step[], done?: Change["done"]) => {
      if (steps.length === 0) return;
      queue.current.push({ id: randomId(), kind, steps, done });
      keep();
      void pump();
    },
    [keep, pump],
  );

  // Takes the last change back (or the one with an id), or does it again.
  const step = useCallback(
    async (from: React.RefObject<string[]>, to: React.RefObject<string[]>, none: string, which?: string) => {
      const id = which ?? from.current[from.current.length - 1];
      if (!id) return void toast(none);
      from.current = from.current.filter((x) => x !== id);
      const { data, error } = await http.POST("/sheets/{sheet}/changes/{change}/undo", {
        params: { path: { sheet: sheet.id, change: id } },
      });
      if (!data) return void toast.error(words(error));
      if (data.id) to.current.push(data.id);
      replace(data.rows);
      if (data.passed > 0)
        toast(
          `${count(data.passed, "cell or row has", "cells or rows have")} been changed since and ${data.passed === 1 ? "was" : "were"} left.`,
        );
      await again();
    },
    [sheet.id, replace, again],
  );
  const undo = useCallback(
    (id?: string) => {
      // What has not gone yet does not go.
      if (!id && queue.current.length > (busy.current ? 1 : 0)) {
        queue.current.pop();
        return keep();
      }
      void step(undos, redos, "Nothing of yours is left to undo.", id);
    },
    [step, keep],
  );
  const redo = useCallback(() => void step(redos, undos, "Nothing to do again."), [step]);
  // A change that was made elsewhere on the page, as an import, can be undone too.
  const remember = useCallback((id: string) => {
    if (id) undos.current.push(id);
    redos.current = [];
  }, []);

  // The texts that wait, by row and column.
  const pending = useMemo(() => {
    const out = new Map<string, string>();
    for (const c of waiting)
      for (const s of c.steps) for (const [col, text] of Object.entries(s.cells ?? {})) out.set(`${s.row}|${col}`, text);
    return out;
  }, [waiting]);

  return { change, undo, redo, remember, pending, away, clashes, setClashes };
}
export type Edits = ReturnType<typeof useEdits>;
