import { toast } from "sonner";
import type { Column, Row } from "../../api/client";
import { copyText } from "../../parts/clipboard";
import { useLimits } from "../../parts/session";
import { count } from "../../parts/time";
import type { Edits, Kind, Step } from "./edits";
import { readTable, writeTable } from "./tsv";

export type At = { row: number; col: number };
export type Box = { top: number; bottom: number; left: number; right: number };

type Grid = {
  columns: Column[];
  total: number;
  sel: Box;
  many: boolean;
  editing: string | null;
  mayEdit: boolean;
  mayWrite: (c: Column | undefined) => boolean;
  place: (c: Column | undefined) => number; // of its cell in a row
  rowAt: (i: number) => Row | undefined;
  load: (from: number, to: number) => Promise<Row[]>;
  edits: Edits;
  setAnchor: (a: At) => void;
  setCursor: (a: At) => void;
  awaitRow: (row?: string) => void; // which takes the cursor once it is here
};
export type Acts = ReturnType<typeof useActs>;

// What can be done with the selected cells and rows of the grid.
export function useActs(g: Grid) {
  const {
    columns,
    total,
    sel,
    many,
    editing,
    mayEdit,
    mayWrite,
    place,
    rowAt,
    load,
    edits,
    setAnchor,
    setCursor,
    awaitRow,
  } = g;
  const { steps: mostRows } = useLimits();
  const fits = () => {
    if (sel.bottom - sel.top < mostRows) return true;
    toast.warning(
      `At most ${mostRows.toLocaleString("en-GB")} rows at a time. Select fewer, or use a file: Import, Export.`,
    );
    return false;
  };
  // Writes a table of texts over the cells from a corner on; rows that are not
  // there are added. Columns that cannot be written in are passed over.
  const put = async (kind: Kind, from: At, table: string[][]) => {
    const rows = await load(from.row, Math.min(total, from.row + table.length));
    const latest = edits.latest();
    const steps: Step[] = [];
    const passed = new Set<string>();
    let beyond = 0;
    table.forEach((line, r) => {
      const cells: Record<string, string> = {};
      const expected: Record<string, string> = {};
      line.forEach((text, c) => {
        const col = columns[from.col + c];
        if (!col) return void beyond++;
        if (!mayWrite(col)) return void passed.add(col.name);
        const before = latest(rows[r], col.id, place(col));
        if (text === before) return;
        cells[col.id] = text;
        expected[col.id] = before;
      });
      const at = rows[r];
      if (at && Object.keys(cells).length > 0) steps.push({ op: "edit", row: at.id, cells, expected });
      else if (!at && line.some((t) => t.trim())) steps.push({ op: "add", cells });
    });
    if (beyond > 0)
      toast.warning(
        `${count(beyond, "cell", "cells")} beyond the last column ${beyond === 1 ? "was" : "were"} left out.`,
      );
    if (passed.size > 0)
      toast(`Not written: ${[...passed].join(", ")}, which ${passed.size === 1 ? "is" : "are"} calculated or locked.`);
    edits.change(kind, steps);
    setAnchor(from);
    setCursor({
      row: from.row + table.length - 1,
      col: Math.min(columns.length - 1, from.col + Math.max(...table.map((l) => l.length)) - 1),
    });
  };

  const chosen = columns.slice(sel.left, sel.right + 1);
  const textsOf = (rows: Row[]) => {
    const latest = edits.latest();
    return rows.map((r) => chosen.map((c) => latest(r, c.id, place(c))));
  };
  const texts = async () => textsOf(await load(sel.top, sel.bottom + 1));
  const blank = () => Array.from({ length: sel.bottom - sel.top + 1 }, () => chosen.map(() => ""));
  const clear = (kind: Kind) => fits() && void put(kind, { row: sel.top, col: sel.left }, blank());
  const fill = async () => {
    const lines = await texts();
    if (lines.length > 1)
      await put(
        "fill",
        { row: sel.top, col: sel.left },
        lines.map(() => lines[0] ?? []),
      );
  };
  const rowIds = async () => (await load(sel.top, sel.bottom + 1)).map((r) => r.id);
  const insert = () => {
    const n = sel.bottom - sel.top + 1;
    const after = rowAt(sel.bottom)?.id;
    awaitRow();
    edits.change(
      "add",
      Array.from({ length: n }, () => ({ op: "add" as const, after, cells: {} })),
      (r) => awaitRow(r.added[0]),
    );
  };
  const remove = async () => {
    const ids = await rowIds();
    edits.change(
      "delete",
      ids.map((r) => ({ op: "delete" as const, row: r })),
      (r) =>
        toast(`Deleted ${count(ids.length, "row")}. Nothing more goes out for ${ids.length === 1 ? "it" : "them"}.`, {
          action: { label: "Restore", onClick: () => edits.undo(r.id) },
        }),
    );
  };

  const copy = (e: React.ClipboardEvent, cut: boolean) => {
    if (editing !== null) return;
    e.preventDefault();
    const at: Row[] = [];
    for (let i = sel.top; i <= sel.bottom; i++) {
      const r = rowAt(i);
      if (r) at.push(r);
    }
    if (at.length === sel.bottom - sel.top + 1) e.clipboardData.setData("text/plain", writeTable(textsOf(at)));
    else if (!fits()) return;
    else void texts().then((t) => copyText(writeTable(t))); // what is not here yet is fetched first
    if (cut && mayEdit) clear("cut");
    else if (many) toast(`Copied ${count((sel.bottom - sel.top + 1) * chosen.length, "cell")}.`);
  };
  const paste = (e: React.ClipboardEvent) => {
    if (editing !== null || !mayEdit) return;
    e.preventDefault();
    const table = readTable(e.clipboardData.getData("text/plain"));
    if (table.length === 0) return;
    const one = table.length === 1 && table[0]?.length === 1;
    void put(
      "paste",
      { row: sel.top, col: sel.left },
      one && many ? blank().map((l) => l.map(() => table[0]?.[0] ?? "")) : table,
    );
  };

  return {
    copy,
    paste,
    clear,
    fill: () => void (fits() && fill()),
    insert: () => void (fits() && insert()),
    remove: () => void (fits() && remove()),
    ids: async () => (fits() ? rowIds() : []),
  };
}
