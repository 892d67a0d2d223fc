import { useVirtualizer } from "@tanstack/react-virtual";
import { forwardRef, useCallback, useEffect, useImperativeHandle, useMemo, useRef, useState } from "react";
import { toast } from "sonner";
import { type Column, type Mark, type Sheet, words } from "../../api/client";
import { useNow } from "../../parts/session";
import type { Axis } from "../../parts/track";
import { type At, type Box, useActs } from "./acts";
import { keyWidth, rowHeight, widthOf } from "./cell";
import type { Edits } from "./edits";
import { Editor } from "./editor";
import { Foot } from "./foot";
import { GridRow } from "./gridrow";
import { Head } from "./head";
import { pressed } from "./keys";
import { type Colleague, useTouched } from "./presence";
import { gridColumns, inputOf, useRows } from "./rows";
import type { View } from "./view";

export type { Box } from "./acts";
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
  head: Omit<Parameters<typeof Head>[0], "sheet" | "columns" | "left" | "axis" | "width" | "hasKey" | "view" | "onStep" | "onDown">;
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

  // The head of a column takes the keys while it is the one that is looked at.
  const focusHead = (col: number) => {
    const c = Math.max(0, Math.min(columns.length - 1, col));
    move(cursor.row, c);
    box.current?.querySelector<HTMLElement>(`[data-head="${c}"]`)?.focus({ preventScroll: true });
  };
  const acts = useActs({ columns, total, sel, many, editing, mayEdit, mayWrite, place, rowAt, load, edits, move, setAnchor, setCursor });
  const keys = (e: React.KeyboardEvent) => {
    if (editing !== null || e.target !== box.current) return;
    const page = Math.max(1, Math.floor((box.current?.clientHeight ?? 300) / rowHeight) - 2);
    const done = pressed(e, {
      cursor,
      sel,
      many,
      total,
      page,
      wide: columns.length,
      mayEdit,
      move,
      setAnchor,
      setCursor,
      begin,
      acts,
      edits,
      find: () => setFinding(true),
      openRow: () => row && p.onRow(row.id),
      openCell: () => row && active && p.onCell(row.id, active.id),
      toHead: () => focusHead(cursor.col),
      leave: () => box.current?.blur(),
    });
    if (done) e.preventDefault();
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
    // What is being typed is kept as the focus leaves it.
    if (editing !== null) (document.activeElement as HTMLElement | null)?.blur();
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
          onCopy={(e) => acts.copy(e, false)}
          onCut={(e) => acts.copy(e, true)}
          onPaste={acts.paste}
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
            onStep={focusHead}
            onDown={() => box.current?.focus({ preventScroll: true })}
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
        onFill={acts.fill}
        onClear={() => acts.clear("clear")}
        onInsert={acts.insert}
        onRemove={acts.remove}
        onHistory={() => row && active && p.onCell(row.id, active.id)}
      />
    </div>
  );
});
