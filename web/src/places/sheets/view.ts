import type { Condition, Schemas } from "../../api/client";

// How a sheet is looked at: which rows, in which order.
export type View = { filter?: Condition; sort?: Schemas["SortKey"][]; find?: string };

export const isPlain = (v: View) => !v.filter && !v.sort?.length && !v.find;
export const sameView = (a: View, b: View) => JSON.stringify(tidy(a)) === JSON.stringify(tidy(b));

// A view without what says nothing, its parts in one order.
export function tidy(v: View): View {
  const out: View = {};
  if (v.filter) out.filter = v.filter;
  if (v.sort?.length) out.sort = v.sort.map((k) => (k.down ? { column: k.column, down: true } : { column: k.column }));
  if (v.find) out.find = v.find;
  return out;
}
