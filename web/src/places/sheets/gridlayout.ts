import type { Column } from "../../api/client";
import { keyWidth, widthOf } from "./cell";
import type { Colleague } from "./presence";

/** The place of a column among all that a row shows, from 1 on: the key (or the row's
 * name), the track, the others. */
export const colIndex = (i: number, hasKey: boolean) => (hasKey ? (i === 0 ? 1 : i + 2) : i + 3);
/** The column at such a place; -1 for the row's name and the track. */
export const columnAt = (place: number, hasKey: boolean) =>
  place <= 2 ? (hasKey && place === 1 ? 0 : -1) : place - (hasKey ? 2 : 3);

/** Where each column begins, which stay in sight while the others scroll (at
 * which place), how wide all are together and those that stay. In pixels. */
export type Layout = { left: number[]; pinned: (number | undefined)[]; width: number; still: number };

/** Lays the columns out behind the key and the track; so many after the key are frozen. */
export function layOut(columns: Column[], hasKey: boolean, track: number, frozen: number): Layout {
  const left: number[] = [];
  const pinned: (number | undefined)[] = [];
  let x = keyWidth + track;
  columns.forEach((c, i) => {
    const nth = hasKey ? i - 1 : i;
    left.push(x);
    pinned.push(nth >= 0 && nth < frozen ? x : undefined);
    if (!(hasKey && i === 0)) x += widthOf(c);
  });
  const still = keyWidth + track + columns.reduce((n, c, i) => n + (pinned[i] === undefined ? 0 : widthOf(c)), 0);
  return { left, pinned, width: x, still };
}

/** A column that is drawn, by its index, and the room before it that others would take, in pixels. */
export type Drawn = { index: number; gap: number };

/** Gives columns, in their order, each with the room between it and the one before; the first begins behind
 * start pixels. */
export function withGaps(shown: number[], widths: number[], left: number[], start: number): Drawn[] {
  let x = start;
  return shown.map((index) => {
    const from = left[index] ?? x;
    const gap = from - x;
    x = from + (widths[index] ?? 0);
    return { index, gap };
  });
}

/** Who else is in which cell: by row and column, their initials. */
export function byCell(there: Colleague[]): Map<string, Map<string, string[]>> {
  const out = new Map<string, Map<string, string[]>>();
  for (const c of there) {
    if (!c.row || !c.column) continue;
    const of = out.get(c.row) ?? new Map<string, string[]>();
    of.set(c.column, [...(of.get(c.column) ?? []), c.initials]);
    out.set(c.row, of);
  }
  return out;
}
