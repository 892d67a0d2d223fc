import { type RefObject, useCallback, useEffect, useState } from "react";
import type { Column } from "../../api/client";
import type { At, Box } from "./acts";
import { widthOf } from "./cell";
import type { Layout } from "./gridlayout";

type Props = {
  box: RefObject<HTMLElement | null>;
  columns: Column[];
  total: number;
  hasKey: boolean;
  layout: Layout;
  scrollTo: (row: number) => void;
  onBox: (b: Box | null) => void;
};

// The cursor of the grid, and the cells that are selected from its anchor on.
export function useCursor({ box, columns, total, hasKey, layout, scrollTo, onBox }: Props) {
  const [cursor, setCursor] = useState<At>({ row: 0, col: 0 });
  const [anchor, setAnchor] = useState<At>({ row: 0, col: 0 });
  const sel: Box = {
    top: Math.min(cursor.row, anchor.row),
    bottom: Math.max(cursor.row, anchor.row),
    left: Math.min(cursor.col, anchor.col),
    right: Math.max(cursor.col, anchor.col),
  };
  const many = sel.top !== sel.bottom || sel.left !== sel.right;
  useEffect(() => {
    onBox(many ? { top: sel.top, bottom: sel.bottom, left: sel.left, right: sel.right } : null);
  }, [many, sel.top, sel.bottom, sel.left, sel.right, onBox]);

  const move = useCallback(
    (row: number, col: number, extend = false) => {
      const r = Math.max(0, Math.min(total - 1, row));
      const c = Math.max(0, Math.min(columns.length - 1, col));
      setCursor({ row: r, col: c });
      if (!extend) setAnchor({ row: r, col: c });
      scrollTo(r);
      const el = box.current;
      const column = columns[c];
      if (el && column && !(hasKey && c === 0) && layout.pinned[c] === undefined) {
        const x = layout.left[c] ?? 0;
        if (x - layout.still < el.scrollLeft) el.scrollTo({ left: x - layout.still });
        else if (x + widthOf(column) > el.scrollLeft + el.clientWidth)
          el.scrollTo({ left: x + widthOf(column) - el.clientWidth });
      }
    },
    [box, total, columns, scrollTo, hasKey, layout],
  );
  return { cursor, sel, many, move, setCursor, setAnchor };
}
