// When a schedule comes round, put together in words; its recurrence (RFC 5545)
// can be seen and pasted as text. Beside it the next times, by the calendar.
import { type ReactNode, useState } from "react";
import type { RuleBody, Schemas } from "../../api/client";
import { NumberField } from "../../parts/fields";
import { clock, dayName } from "../../parts/time";
import { partOf, readRecurrence, type Recurrence, type Trigger, withParts, writeRecurrence } from "./model";

const days = [
  ["MO", "Monday"],
  ["TU", "Tuesday"],
  ["WE", "Wednesday"],
  ["TH", "Thursday"],
  ["FR", "Friday"],
  ["SA", "Saturday"],
  ["SU", "Sunday"],
] as const;
const weekdays = "MO,TU,WE,TH,FR";
const months = [
  "January",
  "February",
  "March",
  "April",
  "May",
  "June",
  "July",
  "August",
  "September",
  "October",
  "November",
  "December",
];
const ordinals: [string, string][] = [
  ["1", "first"],
  ["2", "second"],
  ["3", "third"],
  ["4", "fourth"],
  ["-1", "last"],
];
const unitOf: Record<string, string> = {
  HOURLY: "hours",
  DAILY: "days",
  WEEKLY: "weeks",
  MONTHLY: "months",
  YEARLY: "years",
};

type Change = Pick<RuleBody, "trigger"> & Partial<Pick<RuleBody, "window" | "shift">>;
type Props = {
  body: RuleBody;
  rounds: Schemas["Round"][];
  now: Date;
  zone: string;
  onChange: (c: Change) => void;
};

export function Schedule({ body, rounds, now, zone, onChange }: Props) {
  const t = body.trigger;
  const r = readRecurrence(t.rrule);
  const freq = partOf(r, "FREQ");
  const trigger = (more: Partial<Trigger>, rest?: Partial<Change>) =>
    onChange({ trigger: { ...t, ...more }, ...rest });
  const put = (parts: Record<string, string | undefined>, rest?: Partial<Change>) =>
    trigger({ rrule: writeRecurrence(withParts(r, parts)) }, rest);
  const start = t.start ?? "";
  return (
    <div className="flex max-w-[560px] gap-5 max-sm:flex-col">
      <div className="flex flex-col gap-2.5">
        <label className="flex items-center gap-2">
          <select
            className="field"
            aria-label="How it comes round"
            value={freq ?? "ONCE"}
            onChange={(e) =>
              trigger({ rrule: e.target.value === "ONCE" ? null : writeRecurrence(begin(e.target.value, start)) })
            }
          >
            <option value="ONCE">once</option>
            <option value="DAILY">by days</option>
            <option value="WEEKLY">by weeks</option>
            <option value="MONTHLY">by months</option>
            <option value="YEARLY">by years</option>
            <option value="HOURLY">by hours</option>
          </select>
          {freq && (
            <>
              every{" "}
              <NumberField
                label="Every how many"
                className="w-16"
                whole
                min={1}
                max={999}
                value={Number(partOf(r, "INTERVAL") ?? 1)}
                onChange={(n) => put({ INTERVAL: n > 1 ? String(n) : undefined })}
              />{" "}
              {unitOf[freq]}
            </>
          )}
        </label>
        {freq === "WEEKLY" && (
          <Weekdays value={partOf(r, "BYDAY")} start={start} onChange={(d) => put({ BYDAY: d })} />
        )}
        {freq === "YEARLY" && (
          <label className="flex items-center gap-2">
            in{" "}
            <select
              className="field"
              aria-label="Month"
              value={partOf(r, "BYMONTH") ?? monthOf(start)}
              onChange={(e) => put({ BYMONTH: e.target.value })}
            >
              {!months[Number(partOf(r, "BYMONTH") ?? monthOf(start)) - 1] && (
                <option value={partOf(r, "BYMONTH")}>several months</option>
              )}
              {months.map((m, i) => (
                <option key={m} value={String(i + 1)}>
                  {m}
                </option>
              ))}
            </select>
          </label>
        )}
        {(freq === "MONTHLY" || freq === "YEARLY") && <DayOfMonth r={r} body={body} start={start} put={put} />}
        <span className="flex flex-wrap items-center gap-2">
          at{" "}
          <input
            type="time"
            className="field"
            aria-label="Time of day"
            value={start.slice(11, 16)}
            onChange={(e) => e.target.value && trigger({ start: `${start.slice(0, 10)}T${e.target.value}` })}
          />
          {freq ? "from" : "on"}{" "}
          <input
            type="date"
            className="field"
            aria-label={freq ? "From which day" : "On which day"}
            value={start.slice(0, 10)}
            onChange={(e) =>
              e.target.value && trigger({ start: `${e.target.value}T${start.slice(11, 16) || "09:00"}` })
            }
          />
        </span>
        {freq && <Ends r={r} put={put} />}
        <AsText value={t.rrule ?? ""} onChange={(rrule) => trigger({ rrule: rrule || null })} />
      </div>
      <div className="min-w-40 border-l border-hair-2 pl-4 max-sm:border-l-0 max-sm:pl-0">
        <p className="mb-1 text-xs font-[650] text-ink-2">The next times</p>
        {rounds.length === 0 && <p className="text-ink-2">None.</p>}
        <ol>
          {rounds.map((x) => (
            <li key={x.at} className="whitespace-nowrap">
              {dayName(x.at, zone, now)} {clock(x.at, zone)}
              {x.unmoved && (
                <span className="block pl-3 text-xs text-marigold">instead of {dayName(x.unmoved, zone, now)}</span>
              )}
              {x.closed && <span className="block pl-3 text-xs text-ink-2">not a working day</span>}
            </li>
          ))}
        </ol>
      </div>
    </div>
  );
}

const monthOf = (start: string) => String(Number(start.slice(5, 7)) || 1);
const dayOf = (start: string) => String(Number(start.slice(8, 10)) || 1);
const weekdayOf = (start: string) =>
  days[(new Date(`${start.slice(0, 10)}T00:00:00Z`).getUTCDay() + 6) % 7]?.[0] ?? "MO";

function begin(freq: string, start: string): Recurrence {
  const parts: Recurrence = [["FREQ", freq]];
  if (freq === "WEEKLY") parts.push(["BYDAY", weekdayOf(start)]);
  if (freq === "MONTHLY") parts.push(["BYMONTHDAY", dayOf(start)]);
  if (freq === "YEARLY") parts.push(["BYMONTH", monthOf(start)], ["BYMONTHDAY", dayOf(start)]);
  return parts;
}

function Weekdays({ value, start, onChange }: { value?: string; start: string; onChange: (d: string) => void }) {
  const on = (value ?? weekdayOf(start)).split(",");
  return (
    <fieldset className="flex flex-wrap items-center gap-x-2.5 gap-y-1">
      {days.map(([id, name]) => (
        <label key={id} className="flex items-center gap-1" title={name}>
          <input
            type="checkbox"
            className="accent-juniper"
            aria-label={name}
            checked={on.includes(id)}
            onChange={(e) => {
              const next = days.map(([d]) => d).filter((d) => (d === id ? e.target.checked : on.includes(d)));
              if (next.length > 0) onChange(next.join(","));
            }}
          />
          {name.slice(0, 3)}
        </label>
      ))}
      <button type="button" className="link" onClick={() => onChange(weekdays)}>
        Monday to Friday
      </button>
    </fieldset>
  );
}

type Put = (parts: Record<string, string | undefined>, rest?: Partial<Change>) => void;
// Which day of the month: by number, by weekday, or by working days, which the
// send window then sees to.
function DayOfMonth({ r, body, start, put }: { r: Recurrence; body: RuleBody; start: string; put: Put }) {
  const byDay = partOf(r, "BYDAY");
  const numbered = /^(-?\d)([A-Z]{2})$/.exec(byDay ?? "");
  const pos = numbered?.[1] ?? partOf(r, "BYSETPOS");
  const name = numbered?.[2] ?? byDay;
  const day = partOf(r, "BYMONTHDAY");
  const working = body.window?.workingDays && !body.window.from && !body.window.until && !body.window.weekdays?.length;
  const form =
    day === "1" && working && body.shift !== "earlier"
      ? "first-working"
      : day === "-1" && working && body.shift === "earlier"
        ? "last-working"
        : day === "-1"
          ? "last"
          : byDay
            ? "weekday"
            : "day";
  const clean = { BYDAY: undefined, BYSETPOS: undefined, BYMONTHDAY: undefined };
  const free = form.endsWith("working") ? { window: undefined, shift: undefined } : {};
  const byName = (n: string, d: string) =>
    d === weekdays ? { BYDAY: d, BYSETPOS: n } : { BYDAY: `${n}${d}`, BYSETPOS: undefined };
  const forms: Record<string, () => void> = {
    day: () => put({ ...clean, BYMONTHDAY: dayOf(start) }, free),
    weekday: () => put({ ...clean, ...byName("1", weekdayOf(start)) }, free),
    last: () => put({ ...clean, BYMONTHDAY: "-1" }, free),
    "first-working": () => put({ ...clean, BYMONTHDAY: "1" }, { window: { workingDays: true }, shift: "later" }),
    "last-working": () => put({ ...clean, BYMONTHDAY: "-1" }, { window: { workingDays: true }, shift: "earlier" }),
  };
  return (
    <span className="flex flex-wrap items-center gap-2">
      on{" "}
      <select
        className="field"
        aria-label="Which day of the month"
        value={form}
        onChange={(e) => forms[e.target.value]?.()}
      >
        <option value="day">day number</option>
        <option value="weekday">the … weekday</option>
        <option value="last">the last day</option>
        <option value="first-working">the first working day</option>
        <option value="last-working">the last working day</option>
      </select>
      {form === "day" &&
        (day?.includes(",") ? (
          <span className="text-ink-2">{day}</span>
        ) : (
          <NumberField
            label="Day of the month"
            className="w-16"
            whole
            min={1}
            max={31}
            value={Number(day ?? dayOf(start))}
            onChange={(n) => put({ BYMONTHDAY: String(n) })}
          />
        ))}
      {form === "weekday" && (
        <>
          <select
            className="field"
            aria-label="Which of them"
            value={pos ?? "1"}
            onChange={(e) => put(byName(e.target.value, name ?? "MO"))}
          >
            {ordinals.map(([id, word]) => (
              <option key={id} value={id}>
                {word}
              </option>
            ))}
          </select>
          <select
            className="field"
            aria-label="Weekday"
            value={name}
            onChange={(e) => put(byName(pos ?? "1", e.target.value))}
          >
            {days.map(([id, word]) => (
              <option key={id} value={id}>
                {word}
              </option>
            ))}
            <option value={weekdays}>Monday to Friday</option>
          </select>
        </>
      )}
    </span>
  );
}

function Ends({ r, put }: { r: Recurrence; put: Put }) {
  const times = partOf(r, "COUNT");
  const until = partOf(r, "UNTIL");
  const form = times ? "times" : until ? "until" : "never";
  const day = until ? `${until.slice(0, 4)}-${until.slice(4, 6)}-${until.slice(6, 8)}` : "";
  const forms: Record<string, () => void> = {
    never: () => put({ COUNT: undefined, UNTIL: undefined }),
    times: () => put({ COUNT: "8", UNTIL: undefined }),
    until: () => put({ COUNT: undefined, UNTIL: `${new Date().getUTCFullYear() + 1}1231` }),
  };
  return (
    <span className="flex flex-wrap items-center gap-2">
      <select className="field" aria-label="Until when" value={form} onChange={(e) => forms[e.target.value]?.()}>
        <option value="never">without end</option>
        <option value="times">so many times</option>
        <option value="until">until a day</option>
      </select>
      {form === "times" && (
        <NumberField
          label="Times in all"
          className="w-16"
          whole
          min={1}
          max={9999}
          value={Number(times)}
          onChange={(n) => put({ COUNT: String(n) })}
        />
      )}
      {form === "until" && (
        <input
          type="date"
          className="field"
          aria-label="The last day"
          value={day}
          onChange={(e) => e.target.value && put({ UNTIL: e.target.value.replaceAll("-", "") })}
        />
      )}
    </span>
  );
}

// The recurrence as RFC 5545 writes it, to be copied and pasted.
function AsText({ value, onChange }: { value: string; onChange: (v: string) => void }): ReactNode {
  const [open, setOpen] = useState(false);
  if (!open) {
    return (
      <button type="button" className="link self-start" onClick={() => setOpen(true)}>
        as text
      </button>
    );
  }
  return (
    <label className="flex flex-col gap-1 text-ink-2">
      Recurrence rule (RFC 5545)
      <textarea
        key={value}
        className="field w-72 font-mono text-xs text-ink"
        rows={2}
        spellCheck={false}
        defaultValue={value}
        onBlur={(e) => onChange(e.target.value.trim().replace(/^RRULE:/i, ""))}
      />
    </label>
  );
}
