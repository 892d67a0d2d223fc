import { Popover } from "radix-ui";
import { useEffect, useMemo, useRef, useState } from "react";
import { DayPicker } from "react-day-picker";
import { keepPreviousData } from "@tanstack/react-query";
import { api, type Column, type Sheet } from "../../api/client";
import { useSettled } from "../../parts/settled";

type End = (text: string | null, dr?: number, dc?: number) => void;

// What a cell is written in: a field over the cell, and below it what the
// column's type offers.
export function Editor({
  text,
  column,
  sheet,
  today,
  end,
}: {
  text: string;
  column: Column;
  sheet: Sheet;
  today: Date;
  end: End;
}) {
  const [value, setValue] = useState(text);
  const [at, setAt] = useState(-1);
  const done = useRef(false);
  const below = useRef<HTMLDivElement>(null);
  const input = useRef<HTMLTextAreaElement>(null);
  useEffect(() => {
    const el = input.current;
    el?.focus();
    el?.setSelectionRange(el.value.length, el.value.length);
  }, []);
  const finish = (t: string | null, dr = 0, dc = 0) => {
    if (done.current) return;
    done.current = true;
    end(t, dr, dc);
  };
  const all = useMemo(
    () =>
      column.type === "choice" ? column.options.map((o) => o.name) : column.type === "yes/no" ? ["yes", "no"] : [],
    [column],
  );
  const typed = value.trim().toLowerCase();
  const offered = typed === text.trim().toLowerCase() ? all : all.filter((o) => o.toLowerCase().includes(typed));
  const dated = column.type === "date" || column.type === "moment";
  const read = useReading(sheet.id, column.id, value, dated);
  const day = read ? asDate(read) : undefined;
  const pick = (d: Date) => {
    const iso = asIso(d);
    if (column.type === "date") return finish(iso, 1);
    const time = /\d{1,2}:\d{2}(:\d{2})?\s*$/.exec(value)?.[0] ?? "09:00";
    setValue(`${iso} ${time}`);
    input.current?.focus();
  };
  const keys = (e: React.KeyboardEvent) => {
    if (e.key === "Escape") finish(null);
    else if (e.altKey && e.key === "ArrowDown" && dated)
      below.current?.querySelector<HTMLElement>("td button[tabindex='0'], td button")?.focus();
    else if (e.altKey && e.key === "Enter") {
      const el = e.target as HTMLTextAreaElement;
      setValue(`${value.slice(0, el.selectionStart)}\n${value.slice(el.selectionEnd)}`);
    } else if (e.key === "Enter") finish(at >= 0 ? (offered[at] ?? value) : value, e.shiftKey ? -1 : 1);
    else if (e.key === "Tab") finish(at >= 0 ? (offered[at] ?? value) : value, 0, e.shiftKey ? -1 : 1);
    else if (offered.length > 0 && e.key === "ArrowDown") setAt((at + 1) % offered.length);
    else if (offered.length > 0 && e.key === "ArrowUp") setAt((at <= 0 ? offered.length : at) - 1);
    else {
      e.stopPropagation();
      return;
    }
    e.preventDefault();
    e.stopPropagation();
  };
  const open = offered.length > 0 || dated;
  return (
    <Popover.Root open={open}>
      <Popover.Anchor asChild>
        <textarea
          ref={input}
          rows={1}
          className="absolute inset-0 z-20 min-h-full w-full resize-none bg-sheet px-2.5 py-[5px] leading-5 outline-2 -outline-offset-2 outline-juniper"
          style={value.includes("\n") ? { height: Math.min(8, value.split("\n").length + 1) * 20 } : undefined}
          aria-label={column.name}
          aria-autocomplete={all.length > 0 ? "list" : undefined}
          aria-expanded={all.length > 0 ? open : undefined}
          aria-controls={offered.length > 0 ? "cell-options" : undefined}
          aria-activedescendant={at >= 0 ? `cell-option-${at}` : undefined}
          role={all.length > 0 ? "combobox" : undefined}
          value={value}
          onChange={(e) => {
            setValue(e.target.value);
            setAt(-1);
          }}
          onMouseDown={(e) => e.stopPropagation()}
          onBlur={(e) => !below.current?.contains(e.relatedTarget) && finish(value)}
          onKeyDown={keys}
        />
      </Popover.Anchor>
      <Popover.Portal>
        <Popover.Content
          ref={below}
          className="pop p-1.5 text-[13px]"
          aria-label={`Values of ${column.name}`}
          align="start"
          sideOffset={3}
          onOpenAutoFocus={(e) => e.preventDefault()}
          onCloseAutoFocus={(e) => e.preventDefault()}
          onMouseDown={(e) => e.preventDefault()}
          onKeyDown={(e) => {
            if (e.key !== "Escape") return;
            e.stopPropagation();
            input.current?.focus();
          }}
        >
          {offered.length > 0 && (
            <div
              id="cell-options"
              role="listbox"
              aria-label={`Options of ${column.name}`}
              className="max-h-60 min-w-36 overflow-auto"
            >
              {offered.map((o, i) => (
                <button
                  key={o}
                  type="button"
                  tabIndex={-1}
                  id={`cell-option-${i}`}
                  role="option"
                  aria-selected={i === at}
                  className={`block w-full rounded-sm px-2 py-1 text-left ${i === at ? "bg-wash" : "hover:bg-wash"}`}
                  onClick={() => finish(o, 1)}
                >
                  {o}
                </button>
              ))}
            </div>
          )}
          {dated && (
            <>
              <Calendar sheet={sheet} day={day} today={today} onPick={pick} />
              <p className="px-1.5 pt-1 text-xs text-ink-2">
                Type a date, or go into the days with <kbd className="key ml-0!">Alt ↓</kbd>
              </p>
            </>
          )}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

function Calendar({
  sheet,
  day,
  today,
  onPick,
}: {
  sheet: Sheet;
  day?: Date;
  today: Date;
  onPick: (d: Date) => void;
}) {
  const [month, setMonth] = useState<Date>();
  // The day that is typed turns the leaf to its month.
  const [typed, setTyped] = useState(day?.getTime());
  if (typed !== day?.getTime()) {
    setTyped(day?.getTime());
    setMonth(undefined);
  }
  return (
    <DayPicker
      mode="single"
      selected={day}
      month={month ?? day ?? today}
      onMonthChange={setMonth}
      today={today}
      weekStartsOn={sheet.weekStart as 0 | 1 | 2 | 3 | 4 | 5 | 6}
      onSelect={(d) => d && onPick(d)}
      classNames={calendar}
      showOutsideDays
    />
  );
}

const calendar = {
  root: "select-none",
  months: "relative",
  month_caption: "mb-1 px-1.5 font-[650]",
  nav: "absolute right-0 top-0 flex gap-2",
  button_previous: "link px-1",
  button_next: "link px-1",
  chevron: "size-3.5 fill-juniper",
  weekday: "w-8 text-xs font-[450] text-ink-2",
  day: "p-0 text-center",
  day_button: "h-7 w-8 rounded-sm hover:bg-wash",
  selected: "font-bold underline decoration-2 underline-offset-4 text-juniper",
  today: "font-bold",
  outside: "text-ink-2",
};

// The day that a text comes to in a column, as the server reads it.
function useReading(sheet: string, column: string, text: string, on: boolean): string | undefined {
  const settled = useSettled(text.trim(), 150);
  const q = api.useQuery(
    "get",
    "/sheets/{sheet}/columns/{column}/reading",
    { params: { path: { sheet, column }, query: { text: settled } } },
    { enabled: on && settled !== "", retry: false, meta: { still: true }, placeholderData: keepPreviousData },
  );
  return settled === "" ? undefined : q.data?.day;
}

// An ISO day as the picker takes it, and back.
const asDate = (iso: string) => new Date(`${iso}T00:00:00`);
const asIso = (d: Date) =>
  `${d.getFullYear()}-${String(d.getMonth() + 1).padStart(2, "0")}-${String(d.getDate()).padStart(2, "0")}`;
