import { useVirtualizer } from "@tanstack/react-virtual";
import { forwardRef, memo, useCallback, useEffect, useImperativeHandle, useMemo, useRef, useState } from "react";
import { toast } from "sonner";
import { type Column, type Mark, type Row, type Schemas, type Sheet, words } from "../../api/client";
import { copyText } from "../../parts/clipboard";
import { useNow } from "../../parts/session";
import { type Axis, Track } from "../../parts/track";
import { count } from "../../parts/time";
import { CellBox, rowHeight, widthOf } from "./cell";
import type { Edits, Kind, Step } from "./edits";
import { Editor } from "./editor";
import { Foot } from "./foot";
import { Head } from "./head";
import { initials, useTouched, type Colleague } from "./presence";
import { gridColumns, inputOf, useRows } from "./rows";
import { readTable, writeTable } from "./tsv";
import type { View } from "./view";

export const keyWidth = 92;
type At = { row: number; col: number };
export type Box = { top: number; bottom: number; left: number; right: number };
export type GridHandle = { focusLast: () => void };

type Props = {
  sheet: Sheet;
  view: View;
  axis: Axis;
  lit: string | null;
  mayEdit: boolean;
  mayLocked: boolean; // locked columns too
  edits: Edits;
  there: Colleague[];
  onMark: (m: Mark) => void;
  onRow: (row: string) => void;
  onCell: (row: string, column: string) => void; // its history
  onTotal: (n: number) => void;
  onWords: (w: string) => void;
  onAt: (row?: string, column?: string) => void;
  onBox: (b: Box | null) => void;
  head: Omit<Parameters<typeof Head>[0], "sheet" | "columns" | "left" | "axis" | "width" | "hasKey" | "view">;
};

export const Grid = forwardRef(function Grid(p: Props, ref: React.Ref<GridHandle>) {
  const { sheet, view, axis, lit, mayEdit, mayLocked, edits, there } = p;
  const box = useRef<HTMLDivElement>(null);
  const columns = useMemo(() => gridColumns(sheet), [sheet]);
  const hasKey = sheet.columns.some((c) => c.id === sheet.key);
  const places = useMemo(() => new Map(sheet.columns.map((c, i) => [c.id, i])), [sheet.columns]);
  const place = useCallback((c: Column | undefined) => (c ? (places.get(c.id) ?? -1) : -1), [places]);
  const [total, setTotal] = useState(sheet.figures.rows);
  const [cursor, setCursor] = useState<At>({ row: 0, col: 0 });
  const [anchor, setAnchor] = useState<At>({ row: 0, col: 0 });
  const [editing, setEditing] = useState<string | null>(null);
  const [finding, setFinding] = useState(false);
  const [hover, setHover] = useState<{ m: Mark; x: number; y: number } | null>(null);
  const today = useNow(60000);
  const touched = useTouched(sheet.id);

  const virtual = useVirtualizer({
    count: total,
    getScrollElement: () => box.current,
    estimateSize: () => rowHeight,
    overscan: 10,
    scrollPaddingStart: 38,
    scrollPaddingEnd: 4,
  });
  const items = virtual.getVirtualItems();
  const { newest, failed, rowAt, load } = useRows(sheet, view, items[0]?.index ?? 0, items[items.length - 1]?.index ?? 0);
  const { onTotal, onWords, onAt, onBox } = p;
  useEffect(() => {
    if (!newest) return;
    setTotal(newest.total);
    onTotal(newest.total);
    onWords(newest.filter);
  }, [newest, onTotal, onWords]);

  // Where each column begins, and which stay in sight.
  const layout = useMemo(() => {
    const left: number[] = [];
    const pinned: (number | undefined)[] = [];
    let x = keyWidth + axis.width;
    columns.forEach((c, i) => {
      const nth = hasKey ? i - 1 : i;
      left.push(x);
      pinned.push(nth >= 0 && nth < sheet.frozen ? x : undefined);
      if (!(hasKey && i === 0)) x += widthOf(c);
    });
    return {
      left,
      pinned,
      width: x,
      still: keyWidth + axis.width + columns.reduce((n, c, i) => n + (pinned[i] === undefined ? 0 : widthOf(c)), 0),
    };
  }, [columns, hasKey, axis.width, sheet.frozen]);

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
      virtual.scrollToIndex(r);
      const el = box.current;
      const column = columns[c];
      if (el && column && !(hasKey && c === 0) && layout.pinned[c] === undefined) {
        const x = layout.left[c] ?? 0;
        if (x - layout.still < el.scrollLeft) el.scrollLeft = x - layout.still;
        else if (x + widthOf(column) > el.scrollLeft + el.clientWidth) el.scrollLeft = x + widthOf(column) - el.clientWidth;
      }
    },
    [total, columns, virtual, hasKey, layout],
  );

  // What is asked for from outside is done as the grid is by then.
  const latest = useRef({ move, total });
  useEffect(() => {
    latest.current = { move, total };
  });
  useImperativeHandle(ref, () => ({
    focusLast: () => {
      window.setTimeout(() => {
        latest.current.move(latest.current.total - 1, 0);
        box.current?.focus();
      }, 60);
    },
  }));

  const active = columns[cursor.col];
  const row = rowAt(cursor.row);
  useEffect(() => onAt(row?.id, active?.id), [row?.id, active?.id, onAt]);
  const mayWrite = useCallback(
    (c: Column | undefined) => mayEdit && !!c && c.type !== "formula" && (!c.locked || mayLocked),
    [mayEdit, mayLocked],
  );

  const base = useRef<{ row: string; column: string; before: string } | null>(null);
  const begin = (text?: string) => {
    if (!row || !active || !mayEdit) return;
    if (active.type === "formula") return void toast(`${active.name} is worked out. A coordinator changes its formula under Columns.`);
    if (!mayWrite(active)) return void toast(`${active.name} is locked; a coordinator changes it.`);
    setAnchor(cursor);
    // What stood there when the typing began: a colleague's edit meanwhile is met.
    base.current = { row: row.id, column: active.id, before: inputOf(row, place(active)) };
    setEditing(text ?? edits.pending.get(`${row.id}|${active.id}`) ?? inputOf(row, place(active)));
  };
  const end = (text: string | null, dr = 0, dc = 0) => {
    setEditing(null);
    box.current?.focus({ preventScroll: true });
    const b = base.current;
    base.current = null;
    if (text !== null && b && text !== b.before)
      edits.change("edit", [{ op: "edit", row: b.row, cells: { [b.column]: text }, expected: { [b.column]: b.before } }]);
    if (dr || dc) move(cursor.row + dr, cursor.col + dc);
  };

  // Writes a table of texts over the cells from a corner on; rows that are not
  // there are added. Columns that cannot be written in are passed over.
  const put = async (kind: Kind, from: At, table: string[][]) => {
    const rows = await load(from.row, Math.min(total, from.row + table.length));
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
        const before = inputOf(rows[r], place(col));
        if (text === before) return;
        cells[col.id] = text;
        expected[col.id] = before;
      });
      const at = rows[r];
      if (at && Object.keys(cells).length > 0) steps.push({ op: "edit", row: at.id, cells, expected });
      else if (!at && line.some((t) => t.trim())) steps.push({ op: "add", cells });
    });
    if (beyond > 0) toast.warning(`${count(beyond, "cell", "cells")} beyond the last column ${beyond === 1 ? "was" : "were"} left out.`);
    if (passed.size > 0) toast(`Not written: ${[...passed].join(", ")}, which ${passed.size === 1 ? "is" : "are"} worked out or locked.`);
    edits.change(kind, steps);
    setAnchor(from);
    setCursor({
      row: from.row + table.length - 1,
      col: Math.min(columns.length - 1, from.col + Math.max(...table.map((l) => l.length)) - 1),
    });
  };

  const chosen = columns.slice(sel.left, sel.right + 1);
  const texts = async () => (await load(sel.top, sel.bottom + 1)).map((r) => chosen.map((c) => inputOf(r, place(c))));
  const blank = () => Array.from({ length: sel.bottom - sel.top + 1 }, () => chosen.map(() => ""));
  const clear = (kind: Kind) => void put(kind, { row: sel.top, col: sel.left }, blank());
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
  const insert = async () => {
    const n = sel.bottom - sel.top + 1;
    const after = rowAt(sel.bottom)?.id;
    edits.change(
      "add",
      Array.from({ length: n }, () => ({ op: "add" as const, after, cells: {} })),
      () => move(sel.bottom + 1, 0),
    );
  };
  const remove = async () => {
    const ids = await rowIds();
    edits.change(
      "delete",
      ids.map((r) => ({ op: "delete" as const, row: r })),
      (r) =>
        toast(`Deleted ${count(ids.length, "row")}. Nothing more goes out for ${ids.length === 1 ? "it" : "them"}.`, {
          action: { label: "Bring back", onClick: () => edits.undo(r.id) },
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
    if (at.length === sel.bottom - sel.top + 1)
      e.clipboardData.setData("text/plain", writeTable(at.map((r) => chosen.map((c) => inputOf(r, place(c))))));
    else
      void texts().then((t) => copyText(writeTable(t))); // what is not here yet is fetched first
    if (cut && mayEdit) clear("cut");
    else if (many) toast(`Copied ${count((sel.bottom - sel.top + 1) * chosen.length, "cell")}.`);
  };
  const paste = (e: React.ClipboardEvent) => {
    if (editing !== null || !mayEdit) return;
    e.preventDefault();
    const table = readTable(e.clipboardData.getData("text/plain"));
    if (table.length === 0) return;
    const one = table.length === 1 && table[0]?.length === 1;
    void put("paste", { row: sel.top, col: sel.left }, one && many ? blank().map((l) => l.map(() => table[0]?.[0] ?? "")) : table);
  };

  const keys = (e: React.KeyboardEvent) => {
    if (editing !== null || e.target !== box.current) return;
    const page = Math.max(1, Math.floor((box.current?.clientHeight ?? 300) / rowHeight) - 2);
    const ctrl = e.ctrlKey || e.metaKey;
    const go = (r: number, c: number) => move(r, c, e.shiftKey);
    const k = ctrl ? e.key.toLowerCase() : e.key;
    if (e.key === "ArrowUp") go(ctrl ? 0 : cursor.row - 1, cursor.col);
    else if (e.key === "ArrowDown") go(ctrl ? total : cursor.row + 1, cursor.col);
    else if (e.key === "ArrowLeft") go(cursor.row, ctrl ? 0 : cursor.col - 1);
    else if (e.key === "ArrowRight") go(cursor.row, ctrl ? columns.length : cursor.col + 1);
    else if (e.key === "PageUp") go(cursor.row - page, cursor.col);
    else if (e.key === "PageDown") go(cursor.row + page, cursor.col);
    else if (e.key === "Home") go(ctrl ? 0 : cursor.row, 0);
    else if (e.key === "End") go(ctrl ? total : cursor.row, columns.length);
    else if (e.key === "Tab") {
      if (e.shiftKey ? cursor.col === 0 : cursor.col === columns.length - 1) return;
      move(cursor.row, cursor.col + (e.shiftKey ? -1 : 1));
    } else if (ctrl && e.key === "Enter" && mayEdit) void insert();
    else if (ctrl && (e.key === "Delete" || e.key === "Backspace") && mayEdit) void remove();
    else if (e.key === "Enter" || e.key === "F2") begin();
    else if (e.key === "F8" && row && active) p.onCell(row.id, active.id);
    else if ((e.key === "Delete" || e.key === "Backspace") && mayEdit) clear("clear");
    else if (e.key === " " && e.shiftKey) {
      setAnchor({ row: sel.top, col: 0 });
      setCursor({ row: sel.bottom, col: columns.length - 1 });
    } else if (e.key === " ") {
      if (row) p.onRow(row.id);
    } else if (e.key === "Escape") {
      if (many) setAnchor(cursor);
      else box.current?.blur();
    } else if (ctrl && k === "a") {
      setAnchor({ row: 0, col: 0 });
      setCursor({ row: Math.max(0, total - 1), col: columns.length - 1 });
    } else if (ctrl && k === "z") {
      if (e.shiftKey) edits.redo();
      else edits.undo();
    } else if (ctrl && k === "y") edits.redo();
    else if (ctrl && k === "d" && mayEdit) void fill();
    else if (ctrl && k === "f") setFinding(true);
    else if (!ctrl && !e.altKey && e.key.length === 1) begin(e.key);
    else return;
    e.preventDefault();
  };

  // Where in the grid the pointer is.
  const under = (e: { target: EventTarget }): At | null => {
    const cell = (e.target as Element).closest?.("[data-col]");
    const line = cell?.closest("[data-row]");
    if (!cell || !line) return null;
    return { row: Number(line.getAttribute("data-row")), col: Number(cell.getAttribute("data-col")) - (hasKey ? 1 : 2) };
  };
  const dragging = useRef(false);
  const down = (e: React.MouseEvent) => {
    const at = under(e);
    if (!at || e.button !== 0 || (e.target as Element).closest("button, textarea")) return;
    if (editing !== null && at.row === cursor.row && at.col === cursor.col) return;
    e.preventDefault();
    setEditing(null);
    box.current?.focus({ preventScroll: true });
    const col = Math.max(0, at.col);
    if (e.shiftKey) setCursor({ row: at.row, col });
    else {
      setCursor({ row: at.row, col });
      setAnchor({ row: at.row, col });
      dragging.current = true;
    }
  };
  useEffect(() => {
    const up = () => {
      dragging.current = false;
    };
    window.addEventListener("mouseup", up);
    return () => window.removeEventListener("mouseup", up);
  }, []);

  const point = useCallback((m: Mark | null, el?: Element) => {
    if (!m || !el || !box.current) return setHover(null);
    const a = el.getBoundingClientRect();
    const b = box.current.getBoundingClientRect();
    setHover({ m, x: a.left - b.left, y: a.bottom - b.top + 4 });
  }, []);
  const guests = useMemo(() => {
    const out = new Map<string, Map<string, string[]>>();
    for (const c of there) {
      if (!c.row || !c.column) continue;
      const of = out.get(c.row) ?? new Map<string, string[]>();
      of.set(c.column, [...(of.get(c.column) ?? []), c.initials]);
      out.set(c.row, of);
    }
    return out;
  }, [there]);
  const start = items[0]?.start ?? 0;

  return (
    <div className="relative flex min-w-0 flex-1 flex-col bg-sheet">
      <div className="relative min-h-0 flex-1">
        {/* biome-ignore lint: a grid takes focus and keys as a whole (ARIA grid pattern) */}
        <div
          ref={box}
          role="grid"
          aria-label={`Rows of ${sheet.name}`}
          aria-rowcount={total + 1}
          aria-colcount={columns.length + (hasKey ? 1 : 2)}
          aria-multiselectable="true"
          tabIndex={0}
          aria-activedescendant={total > 0 && row ? `cell-${cursor.row}-${cursor.col}` : undefined}
          onKeyDown={keys}
          onCopy={(e) => copy(e, false)}
          onCut={(e) => copy(e, true)}
          onPaste={paste}
          onMouseDown={down}
          onMouseOver={(e) => {
            const at = dragging.current ? under(e) : null;
            if (at) setCursor({ row: at.row, col: Math.max(0, at.col) });
          }}
          onDoubleClick={(e) => under(e) && begin()}
          className="absolute inset-0 overflow-auto focus-visible:outline-offset-[-2px]"
        >
          <Head
            {...p.head}
            sheet={sheet}
            view={view}
            columns={columns}
            left={layout.pinned}
            axis={axis}
            width={layout.width}
            hasKey={hasKey}
          />
          <div role="rowgroup" style={{ height: virtual.getTotalSize(), width: layout.width, position: "relative" }}>
            <div className="absolute left-0" style={{ top: start, width: layout.width }}>
              {items.map((v) => {
                const r = rowAt(v.index);
                const here = v.index === cursor.row;
                const within = v.index >= sel.top && v.index <= sel.bottom;
                return (
                  <GridRow
                    key={v.key}
                    index={v.index}
                    row={r}
                    sheet={sheet}
                    columns={columns}
                    places={places}
                    hasKey={hasKey}
                    axis={axis}
                    pinned={layout.pinned}
                    width={layout.width}
                    cursor={here ? cursor.col : -1}
                    from={within && many ? sel.left : -1}
                    to={within && many ? sel.right : -1}
                    lights={lit !== null && !!r?.marks.some((m) => m.rule === lit)}
                    lit={lit}
                    pending={edits.pending}
                    touched={r ? touched.get(r.id) : undefined}
                    guests={r ? guests.get(r.id) : undefined}
                    onMark={p.onMark}
                    onPoint={point}
                    onRow={p.onRow}
                    editor={
                      here && editing !== null && active ? (
                        <Editor text={editing} column={active} sheet={sheet} today={today} end={end} />
                      ) : null
                    }
                  />
                );
              })}
            </div>
          </div>
          {total === 0 && (
            <p className="p-5 text-ink-2">
              {view.filter || view.find
                ? "No row is like this."
                : "No row yet. Add one, or bring rows in from a file, by a form or from a table you copied."}
            </p>
          )}
        </div>
        {hover && (
          <div
            role="tooltip"
            className="pop pointer-events-none absolute max-w-md px-2.5 py-1.5"
            style={{ left: Math.max(4, hover.x - 20), top: hover.y }}
          >
            {hover.m.line}
          </div>
        )}
        {failed != null && (
          <p role="alert" className="absolute inset-x-0 bottom-0 bg-brick px-5 py-1.5 text-paper">
            {words(failed)}
          </p>
        )}
      </div>
      <Foot
        sheet={sheet}
        view={view}
        box={sel}
        many={many}
        columns={columns}
        row={row}
        cell={row && active ? row.cells[place(active)] : undefined}
        mayEdit={mayEdit}
        away={edits.away}
        waiting={edits.pending.size}
        finding={finding}
        from={cursor.row}
        onFound={(index, column) => move(index, Math.max(0, column ? columns.findIndex((c) => c.id === column) : cursor.col))}
        onFinding={(on) => {
          setFinding(on);
          if (!on) box.current?.focus({ preventScroll: true });
        }}
        onFill={() => void fill()}
        onClear={() => clear("clear")}
        onInsert={() => void insert()}
        onRemove={() => void remove()}
        onHistory={() => row && active && p.onCell(row.id, active.id)}
      />
    </div>
  );
});

type RowProps = {
  index: number;
  row: Row | undefined;
  sheet: Sheet;
  columns: Column[];
  places: Map<string, number>;
  hasKey: boolean;
  axis: Axis;
  pinned: (number | undefined)[];
  width: number;
  cursor: number; // the column the cursor is in, or -1
  from: number; // the selected columns, or -1
  to: number;
  lights: boolean;
  lit: string | null;
  pending: Map<string, string>;
  touched?: { who: string; cells: string[] };
  guests?: Map<string, string[]>;
  editor: React.ReactNode;
  onMark: (m: Mark) => void;
  onPoint: (m: Mark | null, el?: Element) => void;
  onRow: (row: string) => void;
};

const GridRow = memo(function GridRow(p: RowProps) {
  const { row, columns, hasKey, axis } = p;
  const here = p.cursor >= 0;
  const ground = here || p.lights ? "bg-wash" : "bg-sheet";
  const cell = (c: Column, i: number, head: boolean) => {
    const at = p.places.get(c.id) ?? -1;
    const content: Schemas["Cell"] | undefined = row?.cells[at];
    const changed = p.touched && row && p.touched.cells[at] !== content?.text ? initials(p.touched.who) : undefined;
    return (
      <CellBox
        key={c.id}
        id={`cell-${p.index}-${i}`}
        cell={content}
        column={c}
        here={p.cursor === i}
        picked={p.from >= 0 && i >= p.from && i <= p.to}
        pending={row && p.pending.size > 0 ? p.pending.get(`${row.id}|${c.id}`) : undefined}
        by={changed}
        guests={p.guests?.get(c.id)}
        head={head}
        colIndex={i + (hasKey ? 1 : 2)}
        left={head ? 0 : p.pinned[i]}
        width={head ? keyWidth : widthOf(c)}
        className={`${head ? "font-semibold" : ""} ${head || p.pinned[i] !== undefined ? ground : ""}`}
      >
        {p.cursor === i && p.editor}
        {head && row && <Open name={row.name} onOpen={() => p.onRow(row.id)} />}
      </CellBox>
    );
  };
  return (
    <div
      role="row"
      aria-rowindex={p.index + 2}
      aria-selected={p.from >= 0}
      data-row={p.index}
      className={`group flex h-[30px] border-b border-hair-2 ${ground} ${row?.gone ? "opacity-60" : ""}`}
      style={{ width: p.width }}
      title={row?.gone ? "Gone: no longer in the file it came from. Nothing goes out for it." : undefined}
    >
      {hasKey ? (
        cell(columns[0] as Column, 0, true)
      ) : (
        <CellBox
          cell={row && { text: row.name }}
          here={false}
          picked={false}
          head
          colIndex={1}
          left={0}
          width={keyWidth}
          className={`font-semibold text-ink-2 ${ground}`}
        >
          {row && <Open name={row.name} onOpen={() => p.onRow(row.id)} />}
        </CellBox>
      )}
      <div role="gridcell" className={`sticky z-10 flex-none border-r border-hair ${ground}`} style={{ left: keyWidth, width: axis.width }}>
        {row && <Track axis={axis} marks={row.marks} lit={p.lit} onPress={p.onMark} onPoint={p.onPoint} />}
      </div>
      {columns.map((c, i) => (hasKey && i === 0 ? null : cell(c, i, false)))}
    </div>
  );
});

function Open({ name, onOpen }: { name: string; onOpen: () => void }) {
  return (
    <button
      type="button"
      tabIndex={-1}
      className="link absolute right-0 h-full w-4.5 bg-inherit text-base opacity-0 group-hover:opacity-100 focus-visible:opacity-100"
      title="Open the row (Space)"
      aria-label={`Open row ${name}`}
      onMouseDown={(e) => e.stopPropagation()}
      onClick={onOpen}
    >
      ›
    </button>
  );
}
