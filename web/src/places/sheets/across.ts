// Which columns are drawn: where a sheet has hundreds, only those in sight and near it.
import { defaultRangeExtractor, useVirtualizer } from "@tanstack/react-virtual";
import { type RefObject, useEffect, useMemo } from "react";
import type { Column } from "../../api/client";
import { keyWidth, widthOf } from "./cell";
import type { Layout } from "./gridlayout";

/** A column that is drawn, by its index, and the room before it that others would take, in pixels. */
export type Drawn = { index: number; gap: number };

type Options = { box: RefObject<HTMLDivElement | null>; columns: Column[]; hasKey: boolean; layout: Layout; track: number; cursor: number };

/** Gives the columns that are drawn, in their order, without the key: those in sight and near it, those that
 * stay in sight, and the one that the cursor is in. */
export function useAcross({ box, columns, hasKey, layout, track, cursor }: Options): Drawn[] {
  const virtual = useVirtualizer({
    horizontal: true,
    count: columns.length,
    getScrollElement: () => box.current,
    estimateSize: (i) => (hasKey && i === 0 ? 0 : widthOf(columns[i] as Column)),
    paddingStart: keyWidth + track,
    overscan: 12,
    rangeExtractor: (range) => {
      const also = layout.pinned.flatMap((x, i) => (x === undefined ? [] : [i]));
      return [...new Set([...also, cursor, ...defaultRangeExtractor(range)])]
        .filter((i) => i >= 0 && i < columns.length)
        .sort((a, b) => a - b);
    },
  });
  useEffect(() => virtual.measure(), [virtual, columns]);
  const drawn = virtual
    .getVirtualItems()
    .map((v) => v.index)
    .join(" ");
  return useMemo(() => {
    let x = keyWidth + track;
    return drawn
      .split(" ")
      .filter((s) => s !== "" && !(hasKey && s === "0"))
      .map((s) => {
        const index = Number(s);
        const left = layout.left[index] ?? x;
        const gap = left - x;
        x = left + widthOf(columns[index] as Column);
        return { index, gap };
      });
  }, [drawn, columns, hasKey, layout, track]);
}
