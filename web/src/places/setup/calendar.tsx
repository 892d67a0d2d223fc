import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { DayPicker } from "react-day-picker";
import { api, http, type Schemas, take } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { draftOf, Leaving, LeftBehind, useLeaving, usePending } from "../../parts/draft";
import { longestName } from "../../parts/name";
import { useMay, useNow } from "../../parts/session";
import { useSettled } from "../../parts/settled";
import { Turned } from "../sheets/sets";

type Calendar = Schemas["NamedCalendar"];
type Edit = Schemas["CalendarEdit"];
const names = {
  mon: "Monday",
  tue: "Tuesday",
  wed: "Wednesday",
  thu: "Thursday",
  fri: "Friday",
  sat: "Saturday",
  sun: "Sunday",
} as const;
const everyday = Object.keys(names) as Edit["weekdays"];

/** The working calendars: the days worked and the closed days of each. */
export function WorkingCalendars() {
  const q = api.useQuery("get", "/calendars");
  const may = useMay("coordinator");
  const [chosen, setChosen] = useState("");
  const add = useWrite<string, Calendar>({
    write: (name) => http.POST("/calendars", { body: { name, weekdays: everyday.slice(0, 5), closed: [] } }),
    changes: [keys.calendars],
    after: (c) => setChosen(c.id),
  });
  return (
    <Await query={q}>
      {(list) => {
        const here = list.find((c) => c.id === chosen) ?? list[0];
        return (
          <div className="overflow-auto px-5 py-4">
            <h1 className="mb-3">
              <b>Working calendars.</b> Rules that count in working days count by the one that their sheet has.
            </h1>
            <div className="mb-5 flex flex-wrap items-baseline gap-x-6 gap-y-2 border-b border-hair-2 pb-3">
              {list.map((c) => (
                <button
                  key={c.id}
                  type="button"
                  aria-pressed={c === here}
                  className={c === here ? "border-b-[1.5px] border-ink font-[650]" : "text-ink-2 hover:text-ink"}
                  onClick={() => setChosen(c.id)}
                >
                  {c.name}
                </button>
              ))}
              {may && (
                <NewName
                  label="New calendar"
                  act="Add a calendar"
                  busy={add.busy}
                  onName={(name) => void add.do(name)}
                />
              )}
            </div>
            {here && <Days key={here.id} calendar={here} may={may} />}
          </div>
        );
      }}
    </Await>
  );
}

function NewName({
  label,
  act,
  busy,
  onName,
}: {
  label: string;
  act: string;
  busy: boolean;
  onName: (name: string) => void;
}) {
  const [name, setName] = useState("");
  return (
    <form
      className="flex items-center gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (!name.trim()) return;
        onName(name.trim());
        setName("");
      }}
    >
      <input
        className="field w-44"
        aria-label={label}
        placeholder="another calendar"
        value={name}
        onChange={(e) => setName(e.target.value)}
      />
      <button type="submit" className="link" disabled={busy || !name.trim()}>
        {act}
      </button>
    </form>
  );
}

function Days({ calendar: c, may }: { calendar: Calendar; may: boolean }) {
  const changes = [keys.calendars, keys.today, keys.rules, keys.rule, keys.sheets];
  const path = { calendar: c.id };
  // What has been pressed counts once it is saved: it may change many emails.
  const { pending: pressed, setPending: setPressed, left } = usePending<Edit>(may ? draftOf.calendar(c.id) : "");
  const leaving = useLeaving(pressed !== undefined);
  const { name, weekdays, closed } = pressed ?? c;
  const save = useWrite({
    write: (body: Edit) => http.PUT("/calendars/{calendar}", { params: { path }, body }),
    changes,
    after: () => setPressed(undefined),
  });
  const body = useSettled(JSON.stringify(pressed ?? null), 300);
  const turned = useQuery({
    queryKey: keys.calendarEffect(c.id, body),
    enabled: body !== "null",
    queryFn: () =>
      take(http.POST("/calendars/{calendar}/consequences", { params: { path }, body: JSON.parse(body) as Edit })),
  });
  const remove = useWrite({
    write: () => http.DELETE("/calendars/{calendar}", { params: { path } }),
    changes,
    saved: `${c.name} is deleted.`,
  });
  const put = (more: Partial<Edit>) => setPressed({ name, weekdays, closed, ...more });
  const others = c.isDefault ? "every sheet that has no other" : "";
  return (
    <>
      {left && <LeftBehind what="calendar" {...left} />}
      <Leaving of={leaving} what="calendar" onSave={pressed && name.trim() ? () => save.do(pressed) : undefined} />
      <p className="mb-4 flex flex-wrap items-baseline gap-x-4 text-ink-2">
        <span>
          {c.sheets.length > 0 || others
            ? `Counts for ${[...c.sheets, others].filter(Boolean).join(", ")}.`
            : "No sheet has it yet; choose it under Columns of a sheet."}
        </span>
        {may && (
          <label className="flex items-center gap-2">
            Name
            <input
              className="field w-48"
              maxLength={longestName}
              value={name}
              onChange={(e) => put({ name: e.target.value })}
            />
          </label>
        )}
        {may && !c.isDefault && c.sheets.length === 0 && (
          <button type="button" className="link text-brick!" disabled={remove.busy} onClick={() => void remove.do()}>
            Delete
          </button>
        )}
      </p>
      <fieldset disabled={!may} className="mb-5 flex flex-wrap gap-4">
        <legend className="mb-1 text-xs font-[650] text-ink-2">Days worked</legend>
        {everyday.map((id) => (
          <label key={id} className="flex items-center gap-1.5">
            <input
              type="checkbox"
              className="accent-juniper"
              checked={weekdays.includes(id)}
              onChange={(e) =>
                put({ weekdays: everyday.filter((d) => (d === id ? e.target.checked : weekdays.includes(d))) })
              }
            />
            {names[id]}
          </label>
        ))}
      </fieldset>
      {pressed && (
        <div className="sticky top-0 z-10 mb-4 flex flex-wrap items-center gap-x-4 gap-y-1 border-y border-hair bg-paper py-2.5">
          <button
            type="button"
            className="act"
            disabled={save.busy || !name.trim()}
            onClick={() => void save.do(pressed)}
          >
            Save the calendar
          </button>
          <button type="button" className="link" onClick={() => setPressed(undefined)}>
            Cancel
          </button>
          {body === JSON.stringify(pressed) && turned.data && <Changes sheets={turned.data} />}
        </div>
      )}
      <Closed closed={closed} weekdays={weekdays} may={may} onChange={(closed) => put({ closed })} />
    </>
  );
}

// What the days make of the emails foreseen, sheet by sheet.
function Changes({ sheets }: { sheets: Schemas["SheetConsequences"][] }) {
  if (sheets.length === 0) return <span className="text-ink-2">No email of the coming 60 days changes.</span>;
  return (
    <ul className="w-full">
      {sheets.map((s) => (
        <li key={s.sheet}>
          <b>{s.name}.</b>
          <Turned sheet={{ id: s.sheet, zone: s.zone }} sets={s.consequences} />
        </li>
      ))}
    </ul>
  );
}

const iso = (d: Date) =>
  `${d.getFullYear()}-${String(d.getMonth() + 1).padStart(2, "0")}-${String(d.getDate()).padStart(2, "0")}`;
const asDay = (d: string) => new Date(Number(d.slice(0, 4)), Number(d.slice(5, 7)) - 1, Number(d.slice(8, 10)));

// The closed days on a year's view: pressing a day closes or opens it. Days can
// be read from a calendar file.
function Closed({
  closed,
  weekdays,
  may,
  onChange,
}: {
  closed: string[];
  weekdays: string[];
  may: boolean;
  onChange: (days: string[]) => void;
}) {
  const now = useNow(3600_000);
  const [year, setYear] = useState(now.getFullYear());
  const read = useWrite<string, string[]>({
    write: (text) => http.POST("/calendars/closed-days", { body: { text } }),
    saved: (days) => `${days.length} closed days read.`,
  });
  const take = async (file: File | undefined) => {
    if (!file) return;
    const days = await read.do(await file.text());
    if (days) onChange([...new Set([...closed, ...days])].sort());
  };
  const here = closed.filter((d) => d.startsWith(String(year)));
  const rest = everyday.filter((d) => !weekdays.includes(d)).map((d) => (everyday.indexOf(d) + 1) % 7);
  return (
    <>
      <h2 className="mb-2 flex flex-wrap items-baseline gap-3">
        Closed days
        <button type="button" className="link" aria-label="The year before" onClick={() => setYear(year - 1)}>
          ←
        </button>
        <span>{year}</span>
        <button type="button" className="link" aria-label="The year after" onClick={() => setYear(year + 1)}>
          →
        </button>
        <span className="font-[450] text-ink-2">
          {here.length} this year, {closed.length} in all
        </span>
        {may && (
          <label className="link ml-auto cursor-pointer font-[550] focus-within:outline-2">
            Read from a calendar file (.ics)
            <input
              type="file"
              accept=".ics,text/calendar"
              className="sr-only"
              onChange={(e) => {
                void take(e.target.files?.[0]);
                e.target.value = "";
              }}
            />
          </label>
        )}
      </h2>
      <DayPicker
        mode="multiple"
        numberOfMonths={12}
        month={new Date(year, 0, 1)}
        disableNavigation
        hideNavigation
        weekStartsOn={1}
        selected={closed.map(asDay)}
        onSelect={(days) => may && onChange((days ?? []).map(iso).sort())}
        disabled={may ? undefined : () => true}
        modifiers={{ rest: { dayOfWeek: rest } }}
        modifiersClassNames={{ rest: "text-ink-2 bg-[var(--weekend)]" }}
        classNames={year12}
      />
    </>
  );
}

const year12 = {
  root: "select-none",
  months: "grid grid-cols-4 gap-x-8 gap-y-4 max-xl:grid-cols-3 max-lg:grid-cols-2 max-sm:grid-cols-1",
  month_caption: "mb-1 px-1.5 font-[650]",
  weekday: "w-8 text-xs font-[450] text-ink-2",
  day: "p-0 text-center",
  day_button: "h-7 w-8 rounded-sm hover:bg-wash disabled:cursor-default",
  selected: "font-bold text-brick [&>button]:line-through [&>button]:decoration-2",
  outside: "invisible",
};
