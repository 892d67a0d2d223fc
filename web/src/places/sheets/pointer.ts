import { type MouseEvent, type RefObject, useEffect, useRef } from "react";
import type { At } from "./acts";
import { columnAt } from "./gridlayout";

type Props = {
  box: RefObject<HTMLElement | null>;
  hasKey: boolean;
  cursor: At;
  typing: boolean;
  setCursor: (a: At) => void;
  setAnchor: (a: At) => void;
};

// The pointer in the grid: where it is, and the cells that it draws over.
export function usePointer({ box, hasKey, cursor, typing, setCursor, setAnchor }: Props) {
  const dragging = useRef(false);
  useEffect(() => {
    const up = () => {
      dragging.current = false;
    };
    window.addEventListener("mouseup", up);
    return () => window.removeEventListener("mouseup", up);
  }, []);
  const under = (e: { target: EventTarget }): At | null => {
    const cell = (e.target as Element).closest("[data-col]");
    const line = cell?.closest("[data-row]");
    if (!cell || !line) return null;
    return {
      row: Number(line.getAttribute("data-row")),
      col: columnAt(Number(cell.getAttribute("data-col")), hasKey),
    };
  };
  const down = (e: MouseEvent) => {
    const at = under(e);
    if (!at || e.button !== 0 || (e.target as Element).closest("button, textarea")) return;
    if (typing && at.row === cursor.row && at.col === cursor.col) return;
    e.preventDefault();
    // What is being typed is kept as the focus leaves it.
    if (typing) (document.activeElement as HTMLElement | null)?.blur();
    box.current?.focus({ preventScroll: true });
    const to = { row: at.row, col: Math.max(0, at.col) };
    setCursor(to);
    if (e.shiftKey) return;
    setAnchor(to);
    dragging.current = true;
  };
  const move = (e: MouseEvent) => {
    const at = dragging.current ? under(e) : null;
    if (at && (at.row !== cursor.row || Math.max(0, at.col) !== cursor.col))
      setCursor({ row: at.row, col: Math.max(0, at.col) });
  };
  return { under, down, move };
}
