// Which columns are drawn: where a sheet has hundreds, only those in sight and near it.
import { defaultRangeExtractor, useVirtualizer } from "@tanstack/react-virtual";
import { type RefObject, useEffect, useMemo } from "react";
import type { Column } from "../../api/client";
import { keyWidth, widthOf } from "./cell";
import { type Drawn, type Layout, withGaps } from "./gridlayout";

type Options = {
  box: RefObject<HTMLDivElement | null>;
  columns: Column[];
  hasKey: boolean;
  layout: Layout;
  track: number;
  cursor: number;
};

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
    const shown = drawn.split(" ").filter((s) => s !== "" && !(hasKey && s === "0"));
    return withGaps(shown.map(Number), columns.map(widthOf), layout.left, keyWidth + track);
  }, [drawn, columns, hasKey, layout, track]);
}
