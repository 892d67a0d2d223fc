import type { Condition, Schemas } from "../../api/client";

// How a sheet is looked at: which rows, in which order.
export type Only = Schemas["Only"];
export type View = { filter?: Condition; sort?: Schemas["SortKey"][]; find?: string; only?: Only };

export const isPlain = (v: View) => !v.filter && !v.sort?.length && !v.find && !v.only;
export const sameView = (a: View, b: View) => JSON.stringify(tidy(a)) === JSON.stringify(tidy(b));

// A view without what says nothing, its parts in one order.
export function tidy(v: View): View {
  const out: View = {};
  if (v.filter) out.filter = v.filter;
  if (v.sort?.length) out.sort = v.sort.map((k) => (k.down ? { column: k.column, down: true } : { column: k.column }));
  if (v.find) out.find = v.find;
  if (v.only) out.only = v.only.rule ? { rows: v.only.rows, rule: v.only.rule } : { rows: v.only.rows };
  return out;
}

/** The rows whose key others have too, side by side. */
export const doubledRows = (key: string): View => ({
  only: { rows: "doubled" },
  ...(key ? { sort: [{ column: key }] } : {}),
});

/** What a view may be narrowed to, and how that is said. */
export const onlyRows: { id: Only["rows"]; name: string; byRule: boolean }[] = [
  { id: "unjudged", name: "rows that cannot be judged", byRule: true },
  { id: "coming", name: "rows with an email coming", byRule: true },
  { id: "quiet", name: "rows without an email coming", byRule: true },
  { id: "doubled", name: "rows that share their key", byRule: false },
  { id: "same-address", name: "rows that share their address", byRule: false },
];
