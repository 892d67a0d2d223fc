import { useQueries, useQueryClient } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { forwardRef, useCallback, useEffect, useImperativeHandle, useMemo, useRef, useState } from "react";
import { toast } from "sonner";
import { type Column, http, type Mark, type Problem, type Row, type Schemas, type Sheet, words } from "../../api/client";
import { type Axis, AxisHead, Track } from "../../parts/track";
import type { View } from "./sheet";

type Page = Schemas["RowPage"];
type Cursor = { row: number; col: number };
const pageSize = 200;
const rowHeight = 30;
const keyWidth = 92;
const widths: Record<string, number> = {
  text: 164,
  number: 104,
  date: 96,
  moment: 140,
  "yes/no": 76,
  choice: 112,
  email: 224,
  formula: 110,
};
const rightAligned = ["number", "date", "moment"];

// A cell that was typed but could not be saved yet: it is shown as such and
// tried again until the server is back.
type Unsaved = { row: string; column: string; text: string; expected: string };

export const Grid = forwardRef(function Grid(
  {
    sheet,
    view,
    axis,
    lit,
    mayEdit,
    onMark,
    onRow,
    onTotal,
    onWords,
  }: {
    sheet: Sheet;
    view: View;
    axis: Axis;
    lit: string | null;
    mayEdit: boolean;
    onMark: (m: Mark) => void;
    onRow: (row: string) => void;
    onTotal: (n: number) => void;
    onWords: (w: string) => void;
  },
  ref: React.Ref<{ focusRow: (index: number) => void }>,
) {
  const box = useRef<HTMLDivElement>(null);
  const client = useQueryClient();
  const columns = useMemo(() => {
    const key = sheet.columns.find((c) => c.id === sheet.key);
    return key ? [key, ...sheet.columns.filter((c) => c !== key)] : sheet.columns;
  }, [sheet.columns, sheet.key]);
  const hasKey = sheet.columns.some((c) => c.id === sheet.key);
  const places = useMemo(() => new Map(sheet.columns.map((c, i) => [c.id, i])), [sheet.columns]);
  const [total, setTotal] = useState(sheet.figures.rows);
  const [cursor, setCursor] = useState<Cursor>({ row: 0, col: 0 });
  const [editing, setEditing] = useState<string | null>(null);
  const [hover, setHover] = useState<{ m: Mark; x: number; y: number } | null>(null);
  const [unsaved, setUnsaved] = useState<Unsaved[]>([]);
  const undo = useRef<{ row: string; column: string; text: string }[]>([]);

  const virtual = useVirtualizer({
    count: total,
    getScrollElement: () => box.current,
    estimateSize: () => rowHeight,
    overscan: 12,
    scrollPaddingStart: 38,
  });
  const items = virtual.getVirtualItems();
  const first = Math.floor((items[0]?.index ?? 0) / pageSize);
  const last = Math.floor((items[items.length - 1]?.index ?? 0) / pageSize);
  const pageKey = useCallback((p: number) => ["rows", sheet.id, view, p] as const, [sheet.id, view]);
  const pages = useMemo(() => Array.from({ length: last - first + 1 }, (_, i) => first + i), [first, last]);
  const results = useQueries({
    queries: pages.map((p) => ({
      queryKey: pageKey(p),
      queryFn: async (): Promise<Page> => {
        const { data, error } = await http.POST("/sheets/{sheet}/rows/query", {
          params: { path: { sheet: sheet.id } },
          body: { ...view, offset: p * pageSize, limit: pageSize },
        });
        if (error) throw error;
        return data;
      },
      gcTime: 60000,
    })),
  });
  const newest = results.find((r) => r.data)?.data;
  useEffect(() => {
    if (!newest) return;
    setTotal(newest.total);
    onTotal(newest.total);
    onWords(newest.filter);
  }, [newest, onTotal, onWords]);
  const failed = results.find((r) => r.error)?.error;

  const rowAt = useCallback(
    (i: number): Row | undefined => {
      const page = client.getQueryData<Page>(pageKey(Math.floor(i / pageSize)));
      return page?.rows[i % pageSize];
    },
    [client, pageKey],
  );
  const cellOf = useCallback(
    (r: Row | undefined, c: Column | undefined) => (r && c ? r.cells[places.get(c.id) ?? -1] : undefined),
    [places],
  );
  const inputOf = useCallback(
    (r: Row | undefined, c: Column | undefined) => {
      const cell = cellOf(r, c);
      return cell ? (cell.input ?? cell.text) : "";
    },
    [cellOf],
  );

  const replace = useCallback(
    (row: Row) => {
      client.setQueriesData<Page>(
        { queryKey: ["rows", sheet.id] },
        (p) => p && { ...p, rows: p.rows.map((r) => (r.id === row.id ? row : r)) },
      );
    },
    [client, sheet.id],
  );

  // Saves a cell. A colleague's edit meanwhile is never overwritten silently.
  const save = useCallback(
    async (u: Unsaved): Promise<boolean> => {
      try {
        const { data, error, response } = await http.PATCH("/sheets/{sheet}/rows/{row}", {
          params: { path: { sheet: sheet.id, row: u.row } },
          body: { cells: { [u.column]: u.text }, expected: { [u.column]: u.expected } },
        });
        if (data) {
          replace(data);
          return true;
        }
        if (response.status >= 500) return false;
        const p = error as Problem;
        if (p.conflict) {
          const theirs = p.conflict.theirs;
          toast.warning(`${p.conflict.name} was changed meanwhile to “${theirs || "empty"}”. You typed “${u.text || "empty"}”.`, {
            duration: 30000,
            action: { label: "Keep mine", onClick: () => void save({ ...u, expected: theirs }) },
            cancel: { label: "Keep theirs", onClick: () => {} },
          });
        } else toast.error(words(p));
        await client.invalidateQueries({ queryKey: ["rows", sheet.id] });
        return true;
      } catch {
        return false;
      }
    },
    [sheet.id, client, replace],
  );
  useEffect(() => {
    if (unsaved.length === 0) return;
    const t = window.setInterval(async () => {
      const u = unsaved[0];
      if (u && (await save(u))) setUnsaved((list) => list.slice(1));
    }, 2000);
    return () => window.clearInterval(t);
  }, [unsaved, save]);

  const commit = useCallback(
    async (row: Row | undefined, column: Column | undefined, text: string, remember = true) => {
      if (!row || !column) return;
      const before = inputOf(row, column);
      if (text === before) return;
      if (remember) undo.current.push({ row: row.id, column: column.id, text: before });
      const u = { row: row.id, column: column.id, text, expected: before };
      if (!(await save(u))) {
        setUnsaved((list) => [...list, u]);
        toast.warning("Not saved yet: Nivot cannot be reached. It will be tried again.");
      }
    },
    [inputOf, save],
  );

  const offsets = useMemo(() => {
    const out: number[] = [];
    let x = keyWidth + axis.width;
    columns.forEach((c, i) => {
      out.push(x);
      if (!(hasKey && i === 0)) x += c.width || widths[c.type] || 140;
    });
    return { left: out, width: x };
  }, [columns, hasKey, axis.width]);

  const move = useCallback(
    (row: number, col: number) => {
      const r = Math.max(0, Math.min(total - 1, row));
      const c = Math.max(0, Math.min(columns.length - 1, col));
      setCursor({ row: r, col: c });
      virtual.scrollToIndex(r);
      const el = box.current;
      const column = columns[c];
      if (el && column && !(hasKey && c === 0)) {
        const x = offsets.left[c] ?? 0;
        const w = column.width || widths[column.type] || 140;
        const pinned = keyWidth + axis.width;
        if (x - pinned < el.scrollLeft) el.scrollLeft = x - pinned;
        else if (x + w > el.scrollLeft + el.clientWidth) el.scrollLeft = x + w - el.clientWidth;
      }
    },
    [total, columns, virtual, hasKey, offsets, axis.width],
  );

  useImperativeHandle(ref, () => ({
    focusRow: (i) => {
      window.setTimeout(() => {
        const n = client.getQueryData<Page>(pageKey(first))?.total ?? total;
        setTotal(n);
        const at = i < 0 ? n - 1 : i;
        virtual.scrollToIndex(at);
        setCursor({ row: at, col: 0 });
        box.current?.focus();
      }, 250);
    },
  }));

  const active = columns[cursor.col];
  const begin = (text?: string) => {
    if (!mayEdit || !active || active.type === "formula" || !rowAt(cursor.row)) return;
    setEditing(text ?? inputOf(rowAt(cursor.row), active));
  };
  const end = (text: string | null, dr = 0, dc = 0) => {
    setEditing(null);
    box.current?.focus();
    if (text !== null) void commit(rowAt(cursor.row), active, text);
    if (dr || dc) move(cursor.row + dr, cursor.col + dc);
  };
  const keys = (e: React.KeyboardEvent) => {
    if (editing !== null) return;
    const page = Math.max(1, Math.floor((box.current?.clientHeight ?? 300) / rowHeight) - 2);
    const ctrl = e.ctrlKey || e.metaKey;
    const row = rowAt(cursor.row);
    switch (e.key) {
      case "ArrowUp":
        move(ctrl ? 0 : cursor.row - 1, cursor.col);
        break;
      case "ArrowDown":
        move(ctrl ? total : cursor.row + 1, cursor.col);
        break;
      case "ArrowLeft":
        move(cursor.row, ctrl ? 0 : cursor.col - 1);
        break;
      case "ArrowRight":
        move(cursor.row, ctrl ? columns.length : cursor.col + 1);
        break;
      case "PageUp":
        move(cursor.row - page, cursor.col);
        break;
      case "PageDown":
        move(cursor.row + page, cursor.col);
        break;
      case "Home":
        move(ctrl ? 0 : cursor.row, 0);
        break;
      case "End":
        move(ctrl ? total : cursor.row, columns.length);
        break;
      case "Tab":
        if (e.shiftKey ? cursor.col === 0 : cursor.col === columns.length - 1) return;
        move(cursor.row, cursor.col + (e.shiftKey ? -1 : 1));
        break;
      case "Enter":
      case "F2":
        begin();
        break;
      case "Delete":
      case "Backspace":
        if (mayEdit && active?.type !== "formula") void commit(row, active, "");
        break;
      case " ":
        if (row) onRow(row.id);
        break;
      case "Escape":
        box.current?.blur();
        break;
      default:
        if (ctrl && e.key === "z") {
          const u = undo.current.pop();
          if (u) {
            const found = items.map((i) => rowAt(i.index)).find((r) => r?.id === u.row);
            const col = sheet.columns.find((c) => c.id === u.column);
            void save({ ...u, expected: inputOf(found, col) });
          }
        } else if (ctrl && e.key === "c") void navigator.clipboard?.writeText(inputOf(row, active));
        else if (ctrl && e.key === "v" && mayEdit)
          void navigator.clipboard?.readText().then((t) => commit(row, active, t.split(/[\t\r\n]/)[0] ?? ""));
        else if (!ctrl && !e.altKey && e.key.length === 1) begin(e.key);
        else return;
    }
    e.preventDefault();
  };

  const point = useCallback((m: Mark | null, el?: Element) => {
    if (!m || !el || !box.current) return setHover(null);
    const a = el.getBoundingClientRect();
    const b = box.current.getBoundingClientRect();
    setHover({ m, x: a.left - b.left, y: a.bottom - b.top + 4 });
  }, []);

  return (
    <div className="relative min-w-0 flex-1 bg-sheet">
      <div
        ref={box}
        role="grid"
        aria-label={`Rows of ${sheet.name}`}
        aria-rowcount={total + 1}
        aria-colcount={columns.length + 1}
        tabIndex={0}
        aria-activedescendant={total > 0 ? `cell-${cursor.row}-${cursor.col}` : undefined}
        onKeyDown={keys}
        className="absolute inset-0 overflow-auto focus-visible:outline-offset-[-2px]"
      >
        <div
          role="row"
          aria-rowindex={1}
          className="sticky top-0 z-20 flex h-[38px] items-end border-b border-hair bg-paper text-xs font-[550] text-ink-2"
          style={{ width: offsets.width }}
        >
          <div
            role="columnheader"
            className="sticky left-0 z-10 flex h-full flex-none items-end bg-paper px-2.5 pb-1"
            style={{ width: keyWidth }}
          >
            {hasKey ? columns[0]?.name : "Row"}
          </div>
          <div
            role="columnheader"
            className="sticky z-10 h-full flex-none border-r border-hair bg-paper"
            style={{ left: keyWidth, width: axis.width }}
          >
            <span className="sr-only">Track</span>
            <AxisHead axis={axis} />
          </div>
          {columns.map((c, i) =>
            hasKey && i === 0 ? null : (
              <div
                key={c.id}
                role="columnheader"
                title={`${c.name}, ${c.type}`}
                className={`flex-none truncate px-2.5 pb-1 ${rightAligned.includes(c.type) ? "text-right" : ""}`}
                style={{ width: c.width || widths[c.type] }}
              >
                {c.name}
              </div>
            ),
          )}
        </div>
        <div style={{ height: virtual.getTotalSize(), width: offsets.width, position: "relative" }}>
          {items.map((v) => {
            const row = rowAt(v.index);
            const here = v.index === cursor.row;
            const lights = lit !== null && row?.marks.some((m) => m.rule === lit);
            return (
              <div
                key={v.key}
                role="row"
                aria-rowindex={v.index + 2}
                className={`group absolute left-0 flex h-[30px] border-b border-hair-2 ${here || lights ? "bg-wash" : "bg-sheet"} ${row?.gone ? "opacity-60" : ""}`}
                style={{ transform: `translateY(${v.start}px)`, width: offsets.width }}
              >
                <CellBox
                  id={hasKey ? `cell-${v.index}-0` : undefined}
                  selected={hasKey && here && cursor.col === 0}
                  editing={hasKey && here && cursor.col === 0 ? editing : null}
                  end={end}
                  column={hasKey ? columns[0] : undefined}
                  head
                  className={`sticky left-0 z-10 font-semibold ${here || lights ? "bg-wash" : "bg-sheet"}`}
                  width={keyWidth}
                  cell={row && (hasKey ? cellOf(row, columns[0]) : { text: row.name })}
                  unsaved={unsaved.some((u) => u.row === row?.id && u.column === columns[0]?.id)}
                  name={row?.name}
                  onPick={() => {
                    setEditing(null);
                    if (hasKey) move(v.index, 0);
                    box.current?.focus();
                  }}
                  onOpen={() => row && onRow(row.id)}
                  onEdit={() => begin()}
                />
                <div
                  role="gridcell"
                  className={`sticky z-10 flex-none border-r border-hair ${here || lights ? "bg-wash" : "bg-sheet"}`}
                  style={{ left: keyWidth, width: axis.width }}
                >
                  {row && <Track axis={axis} marks={row.marks} lit={lit} onPress={onMark} onPoint={point} />}
                </div>
                {columns.map((c, i) =>
                  hasKey && i === 0 ? null : (
                    <CellBox
                      key={c.id}
                      id={`cell-${v.index}-${i}`}
                      selected={here && cursor.col === i}
                      editing={here && cursor.col === i ? editing : null}
                      end={end}
                      column={c}
                      className=""
                      width={c.width || widths[c.type] || 140}
                      cell={cellOf(row, c)}
                      unsaved={unsaved.some((u) => u.row === row?.id && u.column === c.id)}
                      onPick={() => {
                        if (!(here && cursor.col === i && editing !== null)) {
                          setEditing(null);
                          move(v.index, i);
                          box.current?.focus();
                        }
                      }}
                      onEdit={() => begin()}
                    />
                  ),
                )}
              </div>
            );
          })}
        </div>
        {total === 0 && (
          <p className="p-5 text-ink-2">
            {view.filter || view.find ? "No row is like this." : "No row yet. Add one, or bring rows in from a file."}
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
  );
});

function CellBox({
  id,
  cell,
  column,
  selected,
  editing,
  end,
  width,
  className,
  onPick,
  onOpen,
  onEdit,
  unsaved,
  head,
  name,
}: {
  id?: string;
  cell?: Schemas["Cell"];
  column?: Column;
  selected: boolean;
  editing: string | null;
  end: (text: string | null, dr?: number, dc?: number) => void;
  width: number;
  className: string;
  onPick: () => void;
  onOpen?: () => void;
  onEdit: () => void;
  unsaved?: boolean;
  head?: boolean;
  name?: string;
}) {
  const right = column && rightAligned.includes(column.type) && !cell?.bad;
  return (
    // biome-ignore lint: the grid itself takes the keys
    <div
      id={id}
      role={head ? "rowheader" : "gridcell"}
      aria-selected={selected}
      onMouseDown={(e) => {
        if (editing === null) {
          e.preventDefault();
          onPick();
        }
      }}
      onDoubleClick={onEdit}
      className={`flex h-full flex-none items-center overflow-hidden px-2.5 whitespace-nowrap ${right ? "justify-end" : ""} ${selected ? "outline-2 -outline-offset-2 outline-juniper" : ""} ${className}`}
      style={{ width }}
    >
      {editing !== null ? (
        <Editor text={editing} column={column} end={end} />
      ) : cell === undefined ? (
        <span className="h-2 w-10 rounded-sm bg-hair-2" />
      ) : cell.bad ? (
        <span className="bad truncate" title="Cannot be read as this column's type">
          {cell.text}
        </span>
      ) : (
        <span className={`truncate ${unsaved ? "text-marigold italic" : ""}`} title={unsaved ? "Not saved yet" : undefined}>
          {cell.text}
        </span>
      )}
      {onOpen && (
        <button
          type="button"
          tabIndex={-1}
          className="link absolute right-0 h-full w-4.5 bg-inherit text-base opacity-0 group-hover:opacity-100 focus-visible:opacity-100"
          title="Open the row (Space)"
          aria-label={`Open row ${name ?? ""}`}
          onMouseDown={(e) => e.stopPropagation()}
          onClick={onOpen}
        >
          ›
        </button>
      )}
    </div>
  );
}

function Editor({ text, column, end }: { text: string; column?: Column; end: (t: string | null, dr?: number, dc?: number) => void }) {
  const [value, setValue] = useState(text);
  const done = useRef(false);
  const finish = (t: string | null, dr = 0, dc = 0) => {
    if (done.current) return;
    done.current = true;
    end(t, dr, dc);
  };
  const list = column?.type === "choice" ? `options-${column.id}` : column?.type === "yes/no" ? "options-yes-no" : undefined;
  return (
    <>
      <input
        autoFocus
        className="h-full w-full bg-transparent outline-none"
        aria-label={column?.name}
        value={value}
        list={list}
        onChange={(e) => setValue(e.target.value)}
        onBlur={() => finish(value)}
        onKeyDown={(e) => {
          if (e.key === "Enter") finish(value, e.shiftKey ? -1 : 1);
          else if (e.key === "Tab") finish(value, 0, e.shiftKey ? -1 : 1);
          else if (e.key === "Escape") finish(null);
          else return;
          e.preventDefault();
          e.stopPropagation();
        }}
      />
      {list && (
        <datalist id={list}>
          {(column?.type === "choice" ? column.options.map((o) => o.name) : ["yes", "no"]).map((o) => (
            <option key={o} value={o} />
          ))}
        </datalist>
      )}
    </>
  );
}
