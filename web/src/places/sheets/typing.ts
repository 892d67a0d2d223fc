import { type RefObject, useCallback, useRef, useState } from "react";
import { toast } from "sonner";
import type { Column, Row } from "../../api/client";
import type { Edits } from "./edits";

type Props = {
  row?: Row;
  column?: Column;
  mayEdit: boolean;
  mayLocked: boolean;
  place: (c: Column | undefined) => number;
  edits: Edits;
  box: RefObject<HTMLElement | null>;
  onBegin: () => void;
};

// Typing in the cell under the cursor: what it begins with, and what comes of it.
export function useTyping({ row, column, mayEdit, mayLocked, place, edits, box, onBegin }: Props) {
  const [editing, setEditing] = useState<string | null>(null);
  // What stood there when the typing began: a colleague's edit meanwhile is met.
  const base = useRef<{ row: string; column: string; before: string } | null>(null);
  const mayWrite = useCallback(
    (c: Column | undefined) => mayEdit && !!c && c.type !== "formula" && (!c.locked || mayLocked),
    [mayEdit, mayLocked],
  );
  const begin = (text?: string, at?: { row: Row; column: Column }) => {
    beginAt(text, at?.row ?? row, at?.column ?? column);
  };
  const beginAt = (text: string | undefined, row: Row | undefined, column: Column | undefined) => {
    if (!row || !column) return;
    if (!mayEdit)
      return void toast("You may look at this sheet, not change it. An administrator can make you an editor.", {
        id: "reader",
      });
    if (column.type === "formula")
      return void toast(`${column.name} is calculated. A coordinator changes its formula under Columns.`);
    if (!mayWrite(column)) return void toast(`${column.name} is locked; a coordinator changes it.`);
    onBegin();
    const before = edits.latest()(row, column.id, place(column));
    base.current = { row: row.id, column: column.id, before };
    setEditing(text ?? before);
  };
  const end = (text: string | null) => {
    setEditing(null);
    box.current?.focus({ preventScroll: true });
    const b = base.current;
    base.current = null;
    if (text !== null && b && text !== b.before)
      edits.change("edit", [
        { op: "edit", row: b.row, cells: { [b.column]: text }, expected: { [b.column]: b.before } },
      ]);
  };
  return { editing, begin, end, mayWrite };
}
