import { useVirtualizer } from "@tanstack/react-virtual";
import { forwardRef, useCallback, useEffect, useImperativeHandle, useMemo, useRef, useState } from "react";
import { flushSync } from "react-dom";
import { type Column, type Mark, type Row, type Sheet, words } from "../../api/client";
import { useNow } from "../../parts/session";
import type { Axis } from "../../parts/axis";
import { markWords } from "../../parts/track";
import { type At, type Box, useActs } from "./acts";
import { rowHeight } from "./cell";
import { useCursor } from "./cursor";
import type { Edits } from "./edits";
import { Editor } from "./editor";
import { usePutFiles, withNames } from "./files";
import { Foot } from "./foot";
import { useAcross } from "./across";
import { byCell, layOut } from "./gridlayout";
import { GridRow } from "./gridrow";
import { Head } from "./head";
import { pressed, Typed } from "./keys";
import { usePointer } from "./pointer";
import { type Colleague, useTouched } from "./presence";
import { gridColumns, useRows } from "./rows";
import { useTyping } from "./typing";
import type { View } from "./view";

export type { Box } from "./acts";
/** What is asked of the grid from outside: that a row is about to come, and that it has. */
/** Puts the cursor into a row once it is there: into the one that is given, or the next that is added. */
export type GridHandle = { awaitRow: (row?: string) => void };

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
  onSend?: (rows: string[]) => void; // to these, by hand
  head: Omit<
    Parameters<typeof Head>[0],
    "sheet" | "columns" | "drawn" | "left" | "axis" | "width" | "hasKey" | "view" | "onStep" | "onDown"
  >;
};

const quiet = 150; // milliseconds without a key

// How the grid stands: its rows, its cursor, what is typed, and what keys,
// clipboard and pointer come to.
function useGrid(p: Props, ref: React.Ref<GridHandle>) {
  const { sheet, view, axis, mayEdit, mayLocked, edits, there } = p;
  const box = useRef<HTMLDivElement>(null);
  const columns = useMemo(() => gridColumns(sheet), [sheet]);
  const hasKey = sheet.columns.some((c) => c.id === sheet.key);
  const places = useMemo(() => new Map(sheet.columns.map((c, i) => [c.id, i])), [sheet.columns]);
  const place = useCallback((c: Column | undefined) => (c ? (places.get(c.id) ?? -1) : -1), [places]);
  const [total, setTotal] = useState(sheet.figures.rows);
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
  const { newest, failed, rowAt, load } = useRows(
    sheet,
    view,
    items[0]?.index ?? 0,
    items[items.length - 1]?.index ?? 0,
  );
  const { onTotal, onWords, onAt } = p;
  useEffect(() => {
    if (!newest) return;
    setTotal(newest.total);
    onTotal(newest.total);
    onWords(newest.filter);
  }, [newest, onTotal, onWords]);

  const layout = useMemo(
    () => layOut(columns, hasKey, axis.width, sheet.frozen),
    [columns, hasKey, axis.width, sheet.frozen],
  );

  const scrollTo = useCallback((i: number) => virtual.scrollToIndex(i), [virtual]);
  const { cursor, sel, many, move, setCursor, setAnchor } = useCursor({
    box,
    columns,
    total,
    hasKey,
    layout,
    scrollTo,
    onBox: p.onBox,
  });

  // A row that has been added takes the cursor once it is here, and what was typed for it
  // by then: it must not land in the row where the cursor was.
  const [awaited, setAwaited] = useState<{ row?: string } | null>(null);
  const typed = useRef(new Typed());
  const awaitRow = useCallback((row?: string) => {
    setAwaited({ row });
    if (!row) typed.current = new Typed();
    box.current?.focus({ preventScroll: true });
  }, []);
  useImperativeHandle(ref, () => ({ awaitRow }));

  const drawn = useAcross({ box, columns, hasKey, layout, track: axis.width, cursor: cursor.col });
  const active = columns[cursor.col];
  const row = rowAt(cursor.row);
  useEffect(() => onAt(row?.id, active?.id), [row?.id, active?.id, onAt]);
  const { editing, begin, end, mayWrite } = useTyping({
    row,
    column: active,
    mayEdit,
    mayLocked,
    place,
    edits,
    box,
    onBegin: () => setAnchor(cursor),
  });
  // What has been typed is written where it belongs: at once with the next key, which finds the
  // grid as it is shown, or once no more comes.
  const come = useRef<{ row: Row; index: number } | null>(null);
  const putTyped = () => {
    const to = come.current;
    come.current = null;
    setAwaited(null);
    if (!to) return;
    const { whole, open } = typed.current.cells();
    typed.current = new Typed();
    const cells = Object.fromEntries(
      whole.flatMap((text, k) => (text && mayWrite(columns[k]) ? [[columns[k]?.id ?? "", text]] : [])),
    );
    if (Object.keys(cells).length > 0)
      edits.change("edit", [
        { op: "edit", row: to.row.id, cells, expected: Object.fromEntries(Object.keys(cells).map((id) => [id, ""])) },
      ]);
    const col = Math.min(whole.length, columns.length - 1);
    const column = columns[col];
    if (open && column) begin(open, { row: to.row, column });
    setCursor({ row: to.index, col });
    setAnchor({ row: to.index, col });
  };
  useEffect(() => {
    if (!awaited?.row) return;
    const is = (i: number) => rowAt(i)?.id === awaited.row;
    const seen = items.map((v) => v.index).find(is);
    let at = seen ?? total - 1;
    while (seen === undefined && at > total - 20 && !is(at)) at--;
    if (!is(at)) return void (seen === undefined && total > 0 && virtual.scrollToIndex(total - 1));
    if (cursor.row !== at || cursor.col !== 0) return move(at, 0);
    const row = rowAt(at);
    if (row) come.current = { row, index: at };
    const t = window.setTimeout(() => flushSync(putTyped), quiet);
    return () => window.clearTimeout(t);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- putTyped is of the same render
  }, [awaited, newest, items, total, rowAt, cursor, move, virtual]);
  const leave = (text: string | null, dr = 0, dc = 0) => {
    end(text);
    if (dr || dc) move(cursor.row + dr, cursor.col + dc);
  };

  // The head of a column takes the keys while it is the one that is looked at. The heads are not drawn
  // anew with the rows, so this stays the same while one scrolls.
  const focusHead = useCallback(
    (col: number) => {
      const c = Math.max(0, Math.min(columns.length - 1, col));
      move(cursor.row, c);
      // A column that comes into sight with this is drawn by the next frame but one.
      const focus = () => {
        const head = box.current?.querySelector<HTMLElement>(`[data-head="${c}"]`);
        head?.focus({ preventScroll: true });
        return head !== null && head !== undefined;
      };
      if (!focus()) requestAnimationFrame(() => requestAnimationFrame(focus));
    },
    [columns.length, cursor.row, move],
  );
  const focusRows = useCallback(() => box.current?.focus({ preventScroll: true }), []);
  const acts = useActs({
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
  });
  const point = useCallback((m: Mark | null, el?: Element) => {
    if (!m || !el || !box.current) return setHover(null);
    const a = el.getBoundingClientRect();
    const b = box.current.getBoundingClientRect();
    setHover({ m, x: a.left - b.left, y: a.bottom - b.top + 4 });
  }, []);
  // The marks of the row under the cursor, one after the other.
  const [mark, setMark] = useState<{ row: string; at: number } | null>(null);
  const marked = mark && row?.id === mark.row ? row.marks[mark.at] : undefined;
  const along = (by: number) => {
    const marks = row?.marks ?? [];
    if (!row || marks.length === 0) return;
    // From now on forward, and from now on back.
    const first = marks.findIndex((m) => new Date(m.at) > today);
    const from = marked
      ? (mark?.at ?? 0) + by
      : by > 0
        ? first < 0
          ? marks.length - 1
          : first
        : (first < 0 ? marks.length : first) - 1;
    const at = Math.max(0, Math.min(marks.length - 1, from));
    setMark({ row: row.id, at });
    point(
      marks[at] ?? null,
      box.current?.querySelector(`[data-row="${cursor.row}"] [data-mark="${at}"]`) ?? undefined,
    );
  };
  const keys = (e: React.KeyboardEvent) => {
    if (editing !== null || e.target !== box.current) return;
    if (e.altKey && (e.key === "ArrowRight" || e.key === "ArrowLeft")) {
      e.preventDefault();
      return along(e.key === "ArrowRight" ? 1 : -1);
    }
    if (marked && e.key !== "Alt") {
      setMark(null);
      setHover(null);
      if (e.key === "Enter" || e.key === "Escape") {
        e.preventDefault();
        if (e.key === "Enter") p.onMark(marked);
        return;
      }
    }
    if (awaited) {
      const taken = typed.current.take(e);
      if (come.current || !taken) putTyped();
      if (taken) return void e.preventDefault();
    }
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

  const pointer = usePointer({
    box,
    hasKey,
    cursor,
    typing: editing !== null,
    setCursor: (at) => {
      setAwaited(null);
      setCursor(at);
    },
    setAnchor,
  });

  const put = usePutFiles(sheet);
  // Files that are dropped on a cell of files go among those of the sheet, and their names into it.
  const dropAt = (e: React.DragEvent) => {
    const at = [...e.dataTransfer.types].includes("Files") ? pointer.under(e) : null;
    const column = at ? columns[Math.max(0, at.col)] : undefined;
    const r = at ? rowAt(at.row) : undefined;
    return r && column?.type === "file" && mayWrite(column)
      ? { at: { row: at?.row ?? 0, col: Math.max(0, at?.col ?? 0) }, row: r, column }
      : null;
  };
  const over = (e: React.DragEvent) => {
    const to = dropAt(e);
    if (!to) return;
    e.preventDefault();
    if (cursor.row !== to.at.row || cursor.col !== to.at.col) {
      setCursor(to.at);
      setAnchor(to.at);
    }
  };
  const drop = (e: React.DragEvent) => {
    if ([...e.dataTransfer.types].includes("Files")) e.preventDefault(); // the browser would open it in place of the sheet
    const to = dropAt(e);
    if (!to) return;
    void put([...e.dataTransfer.files]).then((names) => {
      if (names.length === 0) return;
      const id = to.column.id;
      const before = edits.latest()(to.row, id, place(to.column));
      edits.change("edit", [
        { op: "edit", row: to.row.id, cells: { [id]: withNames(before, names) }, expected: { [id]: before } },
      ]);
    });
  };

  const guests = useMemo(() => byCell(there), [there]);
  return {
    marked,
    box,
    columns,
    hasKey,
    places,
    total,
    finding,
    setFinding,
    hover,
    today,
    touched,
    virtual,
    items,
    failed,
    rowAt,
    layout,
    cursor,
    sel,
    many,
    move,
    active,
    row,
    editing,
    begin,
    leave,
    focusHead,
    focusRows,
    acts,
    keys,
    pointer,
    point,
    guests,
    place,
    over,
    drop,
    drawn,
  };
}

export const Grid = forwardRef(function Grid(p: Props, ref: React.Ref<GridHandle>) {
  const { sheet, view, axis, lit, mayEdit, edits } = p;
  const {
    marked,
    box,
    columns,
    hasKey,
    places,
    total,
    finding,
    setFinding,
    hover,
    today,
    touched,
    virtual,
    items,
    failed,
    rowAt,
    layout,
    cursor,
    sel,
    many,
    move,
    active,
    row,
    editing,
    begin,
    leave,
    focusHead,
    focusRows,
    acts,
    keys,
    pointer,
    point,
    guests,
    place,
    over,
    drop,
    drawn,
  } = useGrid(p, ref);
  // What is seen of the cell under the cursor, and of colleagues, is heard too.
  const cell = row && active ? row.cells[place(active)] : undefined;
  const by = row ? touched.get(row.id)?.who : undefined;
  const heard = [cell?.bad && `${cell.text}: ${cell.why ?? "it cannot be read"}`, by && `Changed by ${by}`]
    .filter(Boolean)
    .join(". ");
  return (
    <div className="relative flex min-w-0 flex-1 flex-col bg-sheet">
      <div className="relative min-h-0 flex-1">
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
          onMouseDown={pointer.down}
          onMouseMove={pointer.move}
          onDragOver={over}
          onDrop={drop}
          onDoubleClick={(e) => pointer.under(e) && begin()}
          className="absolute inset-0 overflow-auto focus-visible:outline-offset-[-2px]"
        >
          <Head
            {...p.head}
            sheet={sheet}
            view={view}
            columns={columns}
            drawn={drawn}
            left={layout.pinned}
            axis={axis}
            width={layout.width}
            hasKey={hasKey}
            onStep={focusHead}
            onDown={focusRows}
          />
          <div role="rowgroup" style={{ height: virtual.getTotalSize(), width: layout.width, position: "relative" }}>
            <div className="absolute left-0" style={{ top: items[0]?.start ?? 0, width: layout.width }}>
              <Lines
                items={items}
                rowAt={rowAt}
                cursor={cursor}
                sel={many ? sel : undefined}
                touched={touched}
                guests={guests}
                editor={
                  editing !== null && active ? (
                    <Editor text={editing} column={active} sheet={sheet} today={today} end={leave} />
                  ) : null
                }
                shared={{
                  sheet,
                  columns,
                  drawn,
                  places,
                  hasKey,
                  axis,
                  pinned: layout.pinned,
                  width: layout.width,
                  lit,
                  pending: edits.pending,
                  onMark: p.onMark,
                  onPoint: point,
                  onRow: p.onRow,
                }}
              />
            </div>
          </div>
          {total === 0 && (
            <p className="p-5 text-ink-2">
              {view.filter || view.find || view.only
                ? "No row is like this."
                : "No row yet. Add one, or import them from a file, by a form or from a table you copied."}
            </p>
          )}
        </div>
        <p role="status" className="sr-only">
          {marked && markWords(marked, sheet.zone)}
          {heard}
        </p>
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
        onFound={(index, column) =>
          move(index, Math.max(0, column ? columns.findIndex((c) => c.id === column) : cursor.col))
        }
        onFinding={(on) => {
          setFinding(on);
          if (!on) box.current?.focus({ preventScroll: true });
        }}
        onFill={acts.fill}
        onClear={() => acts.clear("clear")}
        onInsert={acts.insert}
        onRemove={acts.remove}
        onHistory={() => row && active && p.onCell(row.id, active.id)}
        onSend={p.onSend && (() => void acts.ids().then((rows) => p.onSend?.(rows)))}
      />
    </div>
  );
});

type LinesProps = {
  items: { key: React.Key; index: number }[];
  rowAt: (i: number) => Row | undefined;
  cursor: At;
  sel?: Box; // where more than one cell is selected
  touched: ReturnType<typeof useTouched>;
  guests: ReturnType<typeof byCell>;
  editor: React.ReactNode;
  shared: Pick<
    React.ComponentProps<typeof GridRow>,
    | "sheet"
    | "columns"
    | "drawn"
    | "places"
    | "hasKey"
    | "axis"
    | "pinned"
    | "width"
    | "lit"
    | "pending"
    | "onMark"
    | "onPoint"
    | "onRow"
  >;
};

// The rows in sight.
function Lines({ items, rowAt, cursor, sel, touched, guests, editor, shared }: LinesProps) {
  return items.map((v) => {
    const r = rowAt(v.index);
    const here = v.index === cursor.row;
    const within = sel && v.index >= sel.top && v.index <= sel.bottom;
    return (
      <GridRow
        key={v.key}
        {...shared}
        index={v.index}
        row={r}
        cursor={here ? cursor.col : -1}
        from={within ? sel.left : -1}
        to={within ? sel.right : -1}
        lights={shared.lit !== null && !!r?.marks.some((m) => m.rule === shared.lit)}
        touched={r ? touched.get(r.id) : undefined}
        guests={r ? guests.get(r.id) : undefined}
        editor={here ? editor : null}
      />
    );
  });
}
