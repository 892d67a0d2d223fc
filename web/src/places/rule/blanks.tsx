// What stands in the blanks of when: the kind of trigger, days before and after a
// date, what a cell becomes, limits.
import type { Column, Sheet, Template } from "../../api/client";
import { DurationField, NumberField } from "../../parts/fields";
import { Choices } from "../../parts/picker";
import { useLimits } from "../../parts/session";
import { nameable, valueType } from "../sheets/cell";
import { comparable } from "../sheets/condition";
import { columnIn, type Every, type Kind, kinds, type Offset, percentIn, type Trigger, without } from "./model";

export function KindChoice({ value, onChange }: { value: string; onChange: (k: Kind) => void }) {
  return (
    <ul className="flex flex-col">
      {kinds.map((k) => (
        <li key={k.id}>
          <button
            type="button"
            aria-current={k.id === value}
            className={`w-full rounded-sm px-1.5 py-1 text-left hover:bg-wash ${k.id === value ? "font-[650]" : ""}`}
            onClick={() => onChange(k.id)}
          >
            {k.name}
          </button>
        </li>
      ))}
    </ul>
  );
}

export function ColumnChoice({
  columns,
  value,
  onChange,
  none,
}: {
  columns: Column[];
  value?: string;
  onChange: (id: string) => void;
  none: string;
}) {
  if (columns.length === 0) return <p className="max-w-60 text-ink-2">{none}</p>;
  return (
    <Choices
      name="Column"
      value={value}
      onChoose={onChange}
      items={columns.map((c) => ({ id: c.id, name: c.name, note: c.type === "formula" ? "calculated" : c.type }))}
    />
  );
}

type OffsetsProps = { offsets: Offset[]; hours: boolean; templates: Template[]; onChange: (o: Offset[]) => void };
export function Offsets({ offsets, hours, templates, onChange }: OffsetsProps) {
  const { offset } = useLimits();
  const put = (i: number, o: Partial<Offset>) => onChange(offsets.map((x, k) => (k === i ? { ...x, ...o } : x)));
  return (
    <div className="flex flex-col gap-2">
      {offsets.map((o, i) => {
        const side = o.n < 0 ? "before" : o.n > 0 ? "after" : "on";
        return (
          <div key={i} className="flex flex-wrap items-center gap-2">
            {side !== "on" && (
              <NumberField
                label="How many"
                className="w-18"
                whole
                min={1}
                max={offset}
                value={Math.abs(o.n)}
                onChange={(n) => put(i, { n: n * Math.sign(o.n) })}
              />
            )}
            {(side !== "on" || o.unit === "working-days") && (
              <select
                aria-label="Unit"
                className="field"
                value={o.unit}
                onChange={(e) => put(i, { unit: e.target.value as Offset["unit"] })}
              >
                <option value="days">days</option>
                <option value="working-days">working days</option>
                {(hours || o.unit === "hours" || o.unit === "minutes") && (
                  <>
                    <option value="hours">hours</option>
                    <option value="minutes">minutes</option>
                  </>
                )}
              </select>
            )}
            <select
              aria-label="Before or after"
              className="field"
              value={side}
              onChange={(e) =>
                put(
                  i,
                  e.target.value === "on"
                    ? { n: 0, unit: o.unit === "working-days" ? o.unit : "days" }
                    : { n: (Math.abs(o.n) || 1) * (e.target.value === "before" ? -1 : 1) },
                )
              }
            >
              <option value="before">before</option>
              <option value="on">on the day</option>
              <option value="after">after</option>
            </select>
            {(templates.length > 1 || o.template) && (
              <select
                aria-label="With which template"
                className="field max-w-40"
                value={o.template ?? ""}
                onChange={(e) => put(i, { template: e.target.value || undefined })}
              >
                <option value="">the same template</option>
                {templates.map((t) => (
                  <option key={t.id} value={t.id}>
                    {t.name}
                  </option>
                ))}
              </select>
            )}
            {offsets.length > 1 && (
              <button type="button" className="link" onClick={() => onChange(without(offsets, i))}>
                remove
              </button>
            )}
          </div>
        );
      })}
      <button type="button" className="link self-start" onClick={() => onChange([...offsets, next(offsets)])}>
        and also …
      </button>
    </div>
  );
}
// The next offset that is not there yet.
function next(offsets: Offset[]): Offset {
  for (const n of [-1, -3, -14, -30, 0, 3, 7, 10])
    if (!offsets.some((o) => o.n === n && o.unit === "days")) return { n, unit: "days" };
  return { n: Math.min(...offsets.map((o) => o.n)) - 1, unit: "days" };
}

export function At({
  value,
  moment,
  onChange,
}: {
  value?: string;
  moment: boolean;
  onChange: (at: string | undefined) => void;
}) {
  return (
    <div className="flex flex-col gap-2">
      <input
        type="time"
        className="field self-start"
        aria-label="Time of day"
        value={value ?? (moment ? "" : "09:00")}
        onChange={(e) => onChange(e.target.value || (moment ? undefined : "09:00"))}
      />
      {moment && (
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            className="accent-juniper"
            checked={!value}
            onChange={(e) => onChange(e.target.checked ? undefined : "09:00")}
          />
          at the column’s own time
        </label>
      )}
    </div>
  );
}

export function EveryBlank({ value, onChange }: { value: Every; onChange: (e: Every) => void }) {
  return (
    <div className="flex flex-col gap-2">
      <div className="flex items-center gap-2">
        every{" "}
        <NumberField
          label="How many"
          className="w-16"
          whole
          min={1}
          value={value.n}
          onChange={(n) => onChange({ ...value, n })}
        />
        <select
          className="field"
          aria-label="Unit"
          value={value.unit}
          onChange={(e) => onChange({ ...value, unit: e.target.value as Every["unit"] })}
        >
          {["days", "weeks", "months", "years"].map((u) => (
            <option key={u}>{u}</option>
          ))}
        </select>
      </div>
      <Times value={value.times} onChange={(times) => onChange({ ...value, times })} />
    </div>
  );
}

/** How often in all. */
export function Times({ value, onChange }: { value?: number; onChange: (n: number | undefined) => void }) {
  return (
    <div className="flex items-center gap-2">
      <label className="flex items-center gap-2">
        <input
          type="checkbox"
          className="accent-juniper"
          checked={value === undefined}
          onChange={(e) => onChange(e.target.checked ? undefined : 8)}
        />
        without end
      </label>
      {value !== undefined && (
        <>
          <NumberField
            label="How often in all"
            className="w-16"
            whole
            min={1}
            max={9999}
            value={value}
            onChange={onChange}
          />{" "}
          times in all
        </>
      )}
    </div>
  );
}

export function Zone({
  value,
  sheetZone,
  onChange,
}: {
  value: string;
  sheetZone: string;
  onChange: (z: string | undefined) => void;
}) {
  return (
    <>
      <input
        className="field w-56"
        list="rule-zones"
        aria-label="Time zone"
        defaultValue={value}
        onBlur={(e) => onChange(e.target.value || undefined)}
      />
      <datalist id="rule-zones">
        {Intl.supportedValuesOf("timeZone").map((z) => (
          <option key={z} value={z} />
        ))}
      </datalist>
      <p className="mt-2 text-ink-2">The sheet’s is {sheetZone}.</p>
    </>
  );
}

// The values that a cell comes to, or comes from.
export function Values({
  column,
  value,
  onChange,
  any,
}: {
  column?: Column;
  value?: unknown[] | null;
  onChange: (v: unknown[] | null) => void;
  any: string;
}) {
  if (!column) return <p className="text-ink-2">Choose a column first.</p>;
  const list = value ?? [];
  const type = valueType(column);
  const options =
    type === "choice"
      ? column.options.map((o) => ({ id: o.id, name: o.name }))
      : type === "yes/no"
        ? [
            { id: true as unknown, name: "yes" },
            { id: false as unknown, name: "no" },
          ]
        : [];
  return (
    <div className="flex flex-col gap-1.5">
      {options.map((o) => (
        <label key={o.name} className="flex items-center gap-2">
          <input
            type="checkbox"
            className="accent-juniper"
            checked={list.includes(o.id)}
            onChange={(e) =>
              onChange(options.map((x) => x.id).filter((x) => (x === o.id ? e.target.checked : list.includes(x))))
            }
          />
          {o.name}
        </label>
      ))}
      {options.length === 0 && (
        <input
          className="field w-64"
          aria-label="Values, separated by commas"
          placeholder={type === "date" ? "2027-03-29" : "one, another"}
          defaultValue={list.join(", ")}
          onBlur={(e) => {
            const next = e.target.value
              .split(",")
              .map((x) => x.trim())
              .filter(Boolean)
              .map((x) => (type === "number" && Number.isFinite(Number(x)) ? Number(x) : x));
            onChange(next.length > 0 ? next : null);
          }}
        />
      )}
      <button type="button" className="link mt-1 self-start" onClick={() => onChange(null)}>
        {any}
      </button>
    </div>
  );
}

export function Columns({
  columns,
  value,
  onChange,
}: {
  columns: Column[];
  value: string[];
  onChange: (ids: string[]) => void;
}) {
  return (
    <div className="flex flex-col gap-1.5">
      {columns.map((c) => (
        <label key={c.id} className="flex items-center gap-2">
          <input
            type="checkbox"
            className="accent-juniper"
            checked={value.includes(c.id)}
            onChange={(e) => onChange(e.target.checked ? [...value, c.id] : value.filter((x) => x !== c.id))}
          />
          {c.name}
        </label>
      ))}
    </div>
  );
}

const passes = [
  { id: ">=", name: "reaches" },
  { id: ">", name: "rises above" },
  { id: "<=", name: "falls to" },
  { id: "<", name: "falls below" },
];
export function Passes({ value, onChange }: { value?: string; onChange: (op: string) => void }) {
  return <Choices name="How it passes" value={value} onChoose={onChange} items={passes} />;
}

type LevelProps = { sheet: Sheet; trigger: Trigger; value: unknown; share?: boolean; onChange: (v: unknown) => void };
// A limit, or the level that arms it again: a number, a column, a share.
export function Level({ sheet, trigger, value, share, onChange }: LevelProps) {
  const own = nameable(sheet).find((c) => c.id === trigger.column);
  const columns = nameable(sheet).filter(
    (c) => c.id !== trigger.column && valueType(c) === "number" && (!own || comparable(own, c)),
  );
  const column = columnIn(value);
  const percent = percentIn(value);
  const form = column !== undefined ? "column" : percent !== undefined ? "percent" : "number";
  const items = [
    { id: "number", name: "a number" },
    ...(columns.length > 0 ? [{ id: "column", name: "the row’s own, in a column" }] : []),
    ...(share ? [{ id: "percent", name: "a share of the limit away from it" }] : []),
  ];
  const start: Record<string, unknown> = { number: 0, column: { column: columns[0]?.id }, percent: { percent: 5 } };
  return (
    <div className="flex flex-col gap-2">
      <Choices name="Which" value={form} onChoose={(f) => onChange(start[f])} items={items} />
      {form === "number" && <NumberField label="Limit" value={value} onChange={onChange} />}
      {form === "percent" && (
        <span className="flex items-center gap-1.5">
          <NumberField
            label="Percent"
            className="w-18"
            min={0}
            value={percent}
            onChange={(n) => onChange({ percent: n })}
          />{" "}
          %
        </span>
      )}
      {form === "column" && (
        <select
          className="field"
          aria-label="Column"
          value={column}
          onChange={(e) => onChange({ column: e.target.value })}
        >
          {columns.map((c) => (
            <option key={c.id} value={c.id}>
              {c.name}
            </option>
          ))}
        </select>
      )}
    </div>
  );
}

// A follow-up: how long after the first email, and at what time of day.
export function After({
  after,
  at,
  onChange,
}: {
  after: string;
  at?: string;
  onChange: (v: { after: string; at?: string }) => void;
}) {
  const days = /^P\d/.test(after) && !after.includes("T");
  return (
    <div className="flex flex-col gap-2">
      <DurationField
        label="After"
        value={after}
        onChange={(d) => onChange({ after: d, at: /T/.test(d) ? undefined : at })}
      />
      {days && (
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            className="accent-juniper"
            checked={at !== undefined}
            onChange={(e) => onChange({ after, at: e.target.checked ? "09:00" : undefined })}
          />
          at a time of day of its own
          {at !== undefined && (
            <input
              type="time"
              className="field"
              aria-label="Time of day"
              value={at}
              onChange={(e) => onChange({ after, at: e.target.value || "09:00" })}
            />
          )}
        </label>
      )}
    </div>
  );
}
