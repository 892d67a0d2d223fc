import { Popover } from "radix-ui";
import { useEffect, useMemo, useRef, useState } from "react";
import { DayPicker } from "react-day-picker";
import type { Column, Sheet } from "../../api/client";

type End = (text: string | null, dr?: number, dc?: number) => void;

// What a cell is written in: a field over the cell, and below it what the
// column's type offers.
export function Editor({ text, column, sheet, today, end }: { text: string; column: Column; sheet: Sheet; today: Date; end: End }) {
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
    () => (column.type === "choice" ? column.options.map((o) => o.name) : column.type === "yes/no" ? ["yes", "no"] : []),
    [column],
  );
  const typed = value.trim().toLowerCase();
  const offered = typed === text.trim().toLowerCase() ? all : all.filter((o) => o.toLowerCase().includes(typed));
  const dated = column.type === "date" || column.type === "moment";
  const day = dated ? readDay(value, column.order) : undefined;
  const pick = (d: Date) => {
    const iso = `${d.getFullYear()}-${String(d.getMonth() + 1).padStart(2, "0")}-${String(d.getDate()).padStart(2, "0")}`;
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
            <ul id="cell-options" role="listbox" aria-label={`Options of ${column.name}`} className="max-h-60 min-w-36 overflow-auto">
              {offered.map((o, i) => (
                // biome-ignore lint: the field takes the keys
                <li
                  key={o}
                  id={`cell-option-${i}`}
                  role="option"
                  aria-selected={i === at}
                  className={`cursor-pointer rounded-sm px-2 py-1 ${i === at ? "bg-wash" : "hover:bg-wash"}`}
                  onClick={() => finish(o, 1)}
                >
                  {o}
                </li>
              ))}
            </ul>
          )}
          {dated && (
            <>
              <DayPicker
                mode="single"
                selected={day}
                defaultMonth={day ?? today}
                today={today}
                weekStartsOn={sheet.locale === "en-US" || sheet.locale === "ja" ? 0 : 1}
                onSelect={(d) => d && pick(d)}
                classNames={calendar}
                showOutsideDays
              />
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

// Reads a day as the column does, as far as the calendar needs it.
function readDay(text: string, order?: string): Date | undefined {
  const iso = /^\s*(\d{4})-(\d{1,2})-(\d{1,2})/.exec(text);
  if (iso) return new Date(Number(iso[1]), Number(iso[2]) - 1, Number(iso[3]));
  const m = /^\s*(\d{1,4})[/.-](\d{1,2})[/.-](\d{1,4})/.exec(text);
  if (!m) return undefined;
  const [a, b, c] = [Number(m[1]), Number(m[2]), Number(m[3])];
  const [y, mo, d] = order === "month-day-year" ? [c, a, b] : order === "year-month-day" ? [a, b, c] : [c, b, a];
  return y > 999 && mo >= 1 && mo <= 12 && d >= 1 && d <= 31 ? new Date(y, mo - 1, d) : undefined;
}
