import { useQueries, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useState } from "react";
import { type Column, http, type Row, type Schemas, type Sheet, take } from "../../api/client";
import type { View } from "./view";

type Page = Schemas["RowPage"];
export const pageSize = 200;

// The rows of a view, in windows: those that are shown, and others on asking.
export function useRows(sheet: Sheet, view: View, first: number, last: number) {
  const client = useQueryClient();
  const key = useCallback((p: number) => ["rows", sheet.id, view, p] as const, [sheet.id, view]);
  const ask = useCallback(
    (p: number) => ({
      queryKey: key(p),
      queryFn: (): Promise<Page> =>
        take(
          http.POST("/sheets/{sheet}/rows/query", {
            params: { path: { sheet: sheet.id } },
            body: { ...view, offset: p * pageSize, limit: pageSize },
          }),
        ),
      gcTime: 60000,
    }),
    [key, sheet.id, view],
  );
  // What flies past is not asked for: only where the scroll comes to rest.
  const [from, to] = useRest(Math.floor(first / pageSize), Math.floor(last / pageSize));
  const queries = useMemo(() => Array.from({ length: to - from + 1 }, (_, i) => ask(from + i)), [from, to, ask]);
  const results = useQueries({ queries });
  const newest = results.find((r) => r.data)?.data;
  const failed = results.find((r) => r.error)?.error;

  const rowAt = useCallback(
    (i: number): Row | undefined => client.getQueryData<Page>(key(Math.floor(i / pageSize)))?.rows[i % pageSize],
    [client, key],
  );
  // All rows from one index to another (not included), asked for where needed.
  const load = useCallback(
    async (a: number, b: number): Promise<Row[]> => {
      const out: Row[] = [];
      for (let p = Math.floor(a / pageSize); p * pageSize < b; p++) {
        const page: Page = client.getQueryData<Page>(key(p)) ?? (await client.fetchQuery(ask(p)));
        page.rows.forEach((r, i) => {
          const at = p * pageSize + i;
          if (at >= a && at < b) out.push(r);
        });
      }
      return out;
    },
    [client, key, ask],
  );
  return { newest, failed, rowAt, load };
}

const restAfter = 70;
function useRest(from: number, to: number): [number, number] {
  const [at, setAt] = useState<[number, number]>([from, to]);
  useEffect(() => {
    const t = window.setTimeout(
      () => setAt((old) => (old[0] === from && old[1] === to ? old : [from, to])),
      restAfter,
    );
    return () => window.clearTimeout(t);
  }, [from, to]);
  return at;
}

export const inputOf = (r: Row | undefined, i: number): string => {
  const c = i < 0 ? undefined : r?.cells[i];
  return c ? (c.input ?? c.text) : "";
};

// The columns in the order of the grid: the key first, hidden ones left out.
export function gridColumns(sheet: Sheet): Column[] {
  const key = sheet.columns.find((c) => c.id === sheet.key);
  const rest = sheet.columns.filter((c) => c !== key && !c.hidden);
  return key ? [key, ...rest] : rest;
}
