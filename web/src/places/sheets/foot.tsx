import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { type Column, http, type Row, type Schemas, type Sheet, take } from "../../api/client";
import { keys } from "../../api/keys";
import { useSettled } from "../../parts/settled";
import { count } from "../../parts/time";
import type { Box } from "./grid";
import type { View } from "./view";

// The line below the grid: where one is, what a selection comes to, and what
// can be done with it.
export function Foot(p: {
  sheet: Sheet;
  view: View;
  box: Box;
  many: boolean;
  columns: Column[];
  row?: Row;
  cell?: Schemas["Cell"];
  mayEdit: boolean;
  away: boolean;
  waiting: number;
  finding: boolean;
  from: number;
  onFound: (index: number, column?: string) => void;
  onFinding: (on: boolean) => void;
  onFill: () => void;
  onClear: () => void;
  onInsert: () => void;
  onRemove: () => void;
  onHistory: () => void;
  onSend?: () => void; // to the selected rows, by hand
}) {
  const { box, columns } = p;
  const sum = useSummary(p.sheet.id, p.view, box, columns, p.many);
  const rows = box.bottom - box.top + 1;
  const cells = rows * (box.right - box.left + 1);
  const active = columns[box.left];
  return (
    <div className="flex h-9 flex-none items-center gap-x-4 overflow-hidden border-t border-hair bg-paper px-3 text-xs whitespace-nowrap text-ink-2">
      {p.finding ? (
        <FindBar {...p} />
      ) : p.many ? (
        <span role="status" className="min-w-0 truncate">
          <b className="text-ink">{count(cells, "cell")}</b> in {count(rows, "row")}
          {sum && sum.numbers > 0 && (
            <>
              {" · sum "}
              <b className="text-ink">{sum.sum}</b> · smallest {sum.least} · largest {sum.top}
            </>
          )}
          {sum && sum.dates > 0 && ` · from ${sum.first} to ${sum.last}`}
          {sum && ` · ${sum.filled.toLocaleString("en-GB")} filled`}
        </span>
      ) : (
        <span className="min-w-0 truncate">
          <b className="text-ink">{p.row?.name}</b>
          {active && p.row ? `, ${active.name}` : ""}
          {p.cell?.why && <span className="text-brick"> · {p.cell.why}</span>}
          {!p.cell?.why && p.cell && p.cell.text.length > 24 && ` · ${p.cell.text}`}
        </span>
      )}
      <span className="ml-auto flex flex-none items-center gap-4">
        {p.waiting > 0 && p.away && (
          <span role="alert" className="font-semibold text-marigold">
            {count(p.waiting, "cell is", "cells are")} not saved yet; it is tried again.
          </span>
        )}
        {!p.finding && p.row && (
          <>
            {p.mayEdit && p.many && (
              <>
                {rows > 1 && <Do word="Fill down" k="Ctrl D" on={p.onFill} />}
                <Do word="Clear" k="Del" on={p.onClear} />
              </>
            )}
            {p.mayEdit && (
              <Do word={rows > 1 ? `Insert ${rows} rows` : "Insert a row"} k="Ctrl Enter" on={p.onInsert} />
            )}
            {p.mayEdit && (
              <Do word={rows > 1 ? `Delete ${count(rows, "row")}` : "Delete"} k="Ctrl Del" on={p.onRemove} />
            )}
            {p.onSend && (
              <button
                type="button"
                className="link text-xs"
                onMouseDown={(e) => e.preventDefault()}
                onClick={p.onSend}
              >
                {rows > 1 ? `Send to these ${rows.toLocaleString("en-GB")} rows …` : "Send to this row …"}
              </button>
            )}
            {!p.many && <Do word="History" k="F8" on={p.onHistory} />}
            <Do word="Find" k="Ctrl F" on={() => p.onFinding(true)} />
          </>
        )}
      </span>
    </div>
  );
}

function Do({ word, k, on }: { word: string; k: string; on: () => void }) {
  return (
    <button type="button" className="link text-xs" onMouseDown={(e) => e.preventDefault()} onClick={on}>
      {word}
      <kbd className="key" aria-hidden>
        {k}
      </kbd>
    </button>
  );
}

// What the selected cells come to, once the selection has come to rest.
function useSummary(
  sheet: string,
  view: View,
  b: Box,
  columns: Column[],
  many: boolean,
): Schemas["Summary"] | undefined {
  const ids = columns.slice(b.left, b.right + 1).map((c) => c.id);
  const body = JSON.stringify({ view, from: b.top, to: b.bottom + 1, columns: ids });
  const settled = useSettled(body, 180);
  const q = useQuery({
    queryKey: keys.summary(sheet, settled),
    enabled: many && settled === body,
    retry: false,
    queryFn: ({ signal }) =>
      take(
        http.POST("/sheets/{sheet}/rows/summary", {
          params: { path: { sheet } },
          body: JSON.parse(settled) as Schemas["SummaryAsk"],
          signal,
        }),
      ),
  });
  return many && settled === body ? q.data : undefined;
}

function FindBar(p: {
  sheet: Sheet;
  view: View;
  from: number;
  onFound: (index: number, column?: string) => void;
  onFinding: (on: boolean) => void;
}) {
  const [text, setText] = useState("");
  const [said, setSaid] = useState("");
  const field = useRef<HTMLInputElement>(null);
  useEffect(() => field.current?.focus(), []);
  const go = async (from: number, back: boolean) => {
    if (!text.trim()) return;
    const { data } = await http.POST("/sheets/{sheet}/rows/find", {
      params: { path: { sheet: p.sheet.id } },
      body: { view: p.view, text, from: Math.max(0, from), back },
    });
    if (!data) return setSaid("could not be looked for");
    if (data.index < 0) return setSaid("no row holds it");
    setSaid(count(data.matches, "row holds", "rows hold") + " it");
    p.onFound(data.index, data.column);
  };
  return (
    <form
      role="search"
      className="flex items-center gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        void go(p.from + 1, false);
      }}
    >
      <input
        ref={field}
        className="field h-7 min-h-0! w-64 text-[13px]"
        aria-label="Find in this view, or go to a key"
        placeholder="A text, or a key to go to"
        value={text}
        onChange={(e) => setText(e.target.value)}
        onKeyDown={(e) => {
          if (e.key === "Escape") p.onFinding(false);
          else if (e.key === "Enter" && e.shiftKey) {
            e.preventDefault();
            void go(p.from - 1, true);
          }
        }}
      />
      <button type="submit" className="link text-xs">
        next
        <kbd className="key" aria-hidden>
          Enter
        </kbd>
      </button>
      <button type="button" className="link text-xs" onClick={() => void go(p.from - 1, true)}>
        before
        <kbd className="key" aria-hidden>
          Shift Enter
        </kbd>
      </button>
      <span role="status">{said}</span>
      <button type="button" className="link text-xs" onClick={() => p.onFinding(false)}>
        close
        <kbd className="key" aria-hidden>
          Esc
        </kbd>
      </button>
    </form>
  );
}
