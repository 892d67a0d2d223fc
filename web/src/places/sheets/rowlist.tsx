// A sheet where there is no room for a grid: its rows one below the other, each with its
// track and the cells that one picks. Pressed, a row opens with all its cells.
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState } from "react";
import { type Column, type Row, type Sheet, words } from "../../api/client";
import { makeAxis } from "../../parts/axis";
import { useWidth } from "../../parts/narrow";
import { Blank } from "../../parts/picker";
import { AxisHead, Track } from "../../parts/track";
import { valueType } from "./cell";
import type { Edits } from "./edits";
import { gridColumns, useRows } from "./rows";
import type { View } from "./view";

const tall = 72;
const margin = 16;
const most = 3; // cells beside the row's name

type Props = {
  sheet: Sheet;
  view: View;
  now: Date;
  edits: Edits;
  onRow: (row: string) => void;
  onTotal: (n: number) => void;
  onWords: (w: string) => void;
};

export function RowList({ sheet, view, now, edits, onRow, onTotal, onWords }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const [total, setTotal] = useState(sheet.figures.rows);
  const virtual = useVirtualizer({
    count: total,
    getScrollElement: () => box.current,
    estimateSize: () => tall,
    overscan: 6,
  });
  const items = virtual.getVirtualItems();
  const { newest, failed, rowAt } = useRows(sheet, view, items[0]?.index ?? 0, items[items.length - 1]?.index ?? 0);
  useEffect(() => {
    if (!newest) return;
    setTotal(newest.total);
    onTotal(newest.total);
    onWords(newest.filter);
  }, [newest, onTotal, onWords]);
  const width = useWidth() - 2 * margin;
  const minute = Math.floor(now.getTime() / 60000);
  const axis = useMemo(() => makeAxis(new Date(minute * 60000), sheet.zone, width), [minute, sheet.zone, width]);
  const [picked, setPicked] = usePicked(sheet);
  return (
    <div className="flex min-h-0 flex-1 flex-col bg-sheet">
      <div className="relative flex-none border-b border-hair bg-paper px-4">
        <span aria-hidden>
          <AxisHead axis={axis} height={34} />
        </span>
        <span className="absolute top-0.5 right-4 bg-paper pl-2">
          <Blank words="Cells" title={`Cells beside each row, ${most} at the most`} plain>
            <Picker sheet={sheet} picked={picked} onPick={setPicked} />
          </Blank>
        </span>
      </div>
      <div
        ref={box}
        className="min-h-0 flex-1 overflow-auto"
        tabIndex={0}
        role="region"
        aria-label={`Rows of ${sheet.name}`}
      >
        <ul className="relative" style={{ height: virtual.getTotalSize() }}>
          {items.map((v) => (
            <li
              key={v.key}
              className="absolute inset-x-0 border-b border-hair-2"
              style={{ top: v.start, height: tall }}
              aria-posinset={v.index + 1}
              aria-setsize={total}
            >
              <Item sheet={sheet} row={rowAt(v.index)} columns={picked} edits={edits} onRow={onRow}>
                {(row) => <Track axis={axis} marks={row.marks} />}
              </Item>
            </li>
          ))}
        </ul>
        {total === 0 && (
          <p className="p-4 text-ink-2">
            {view.filter || view.find || view.only
              ? "No row is like this."
              : "No row yet. Add one, or import them from a file."}
          </p>
        )}
      </div>
      {failed != null && (
        <p role="alert" className="bg-brick px-4 py-1.5 text-paper">
          {words(failed)}
        </p>
      )}
      {edits.away && edits.pending.size > 0 && (
        <p role="alert" className="bg-paper px-4 py-1.5 font-semibold text-marigold">
          Not saved yet; it is tried again.
        </p>
      )}
    </div>
  );
}

type ItemProps = {
  sheet: Sheet;
  row?: Row;
  columns: Column[];
  edits: Edits;
  onRow: (row: string) => void;
  children: (row: Row) => React.ReactNode;
};

function Item({ sheet, row, columns, edits, onRow, children }: ItemProps) {
  if (!row) return <span className="m-4 block h-2 w-40 rounded-sm bg-hair-2" />;
  return (
    <button
      type="button"
      className={`block h-full w-full px-4 py-1.5 text-left ${row.gone ? "opacity-60" : ""}`}
      onClick={() => onRow(row.id)}
    >
      <span className="flex gap-3 whitespace-nowrap">
        <b className="flex-none font-semibold">{row.name}</b>
        {row.doubled && (
          <span className="font-bold text-marigold" title="Another row had this key before">
            ×
          </span>
        )}
        {columns.map((c, i) => {
          const cell = row.cells[sheet.columns.indexOf(c)];
          const text = edits.pending.get(`${row.id}|${c.id}`) ?? cell?.text ?? "";
          const needed = row.faults?.some((f) => f.column === c.id);
          return (
            <span
              key={c.id}
              className={`min-w-0 truncate ${i === columns.length - 1 && i > 0 ? "ml-auto flex-none text-ink-2" : ""} ${cell?.bad || needed ? "bad" : ""}`}
            >
              {text || (needed ? "missing" : "")}
            </span>
          );
        })}
      </span>
      {children(row)}
    </button>
  );
}

function Picker({ sheet, picked, onPick }: { sheet: Sheet; picked: Column[]; onPick: (ids: string[]) => void }) {
  const ids = picked.map((c) => c.id);
  return (
    <div className="flex flex-col gap-1">
      {gridColumns(sheet)
        .filter((c) => c.id !== sheet.key)
        .map((c) => (
          <label key={c.id} className="flex items-center gap-2 py-1">
            <input
              type="checkbox"
              className="accent-juniper"
              checked={ids.includes(c.id)}
              disabled={!ids.includes(c.id) && ids.length >= most}
              onChange={(e) => onPick(e.target.checked ? [...ids, c.id] : ids.filter((x) => x !== c.id))}
            />
            {c.name}
          </label>
        ))}
    </div>
  );
}

// The cells that somebody wants to see of a sheet, kept in the browser.
function usePicked(sheet: Sheet): [Column[], (ids: string[]) => void] {
  const name = `nivot-cells-${sheet.id}`;
  const [ids, setIds] = useState<string[] | null>(() => {
    try {
      return JSON.parse(localStorage.getItem(name) ?? "null") as string[] | null;
    } catch {
      return null;
    }
  });
  const first = () => {
    const rest = gridColumns(sheet).filter((c) => c.id !== sheet.key);
    const text = rest.find((c) => valueType(c) === "text");
    const date = rest.find((c) => valueType(c) === "date");
    return [text, date].filter((c) => c !== undefined);
  };
  const columns = ids ? sheet.columns.filter((c) => ids.includes(c.id)) : first();
  return [
    columns,
    (next) => {
      setIds(next);
      localStorage.setItem(name, JSON.stringify(next));
    },
  ];
}
