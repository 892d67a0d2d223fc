// What stands in the blanks of a rule's sentence while they are filled.
import type { Column, RuleBody } from "../../api/client";
import { useLimits } from "../../parts/session";

export type Offset = NonNullable<RuleBody["trigger"]["offsets"]>[number];

export function When({ offsets, hours, onChange }: { offsets: Offset[]; hours: boolean; onChange: (o: Offset[]) => void }) {
  const { offset } = useLimits();
  const put = (i: number, o: Partial<Offset>) => onChange(offsets.map((x, k) => (k === i ? { ...x, ...o } : x)));
  return (
    <div className="flex flex-col gap-2">
      {offsets.map((o, i) => {
        const side = o.n < 0 ? "before" : o.n > 0 ? "after" : "on";
        return (
          <div key={i} className="flex items-center gap-2">
            {side !== "on" && (
              <input
                type="number"
                min={1}
                max={offset}
                aria-label="How many"
                className="field w-18 text-right"
                value={Math.abs(o.n)}
                onChange={(e) => put(i, { n: Math.max(1, Math.floor(Number(e.target.value) || 1)) * Math.sign(o.n) })}
              />
            )}
            {side !== "on" && (
              <select
                aria-label="Unit"
                className="field"
                value={o.unit}
                onChange={(e) => put(i, { unit: e.target.value as Offset["unit"] })}
              >
                <option value="days">days</option>
                <option value="working-days">working days</option>
                {hours && (
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
                  e.target.value === "on" ? { n: 0, unit: "days" } : { n: (Math.abs(o.n) || 1) * (e.target.value === "before" ? -1 : 1) },
                )
              }
            >
              <option value="before">before</option>
              <option value="on">on the day</option>
              <option value="after">after</option>
            </select>
            {offsets.length > 1 && (
              <button type="button" className="link" onClick={() => onChange(offsets.filter((_, k) => k !== i))}>
                take out
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
  for (const n of [-1, -3, -14, -30, 0, 3, 7, 10]) if (!offsets.some((o) => o.n === n && o.unit === "days")) return { n, unit: "days" };
  return { n: Math.min(...offsets.map((o) => o.n)) - 1, unit: "days" };
}

export function At({ value, moment, onChange }: { value?: string; moment: boolean; onChange: (at: string | undefined) => void }) {
  return (
    <div className="flex flex-col gap-2">
      <input
        type="time"
        className="field"
        aria-label="Time of day"
        value={value ?? ""}
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
          at the moment’s own time
        </label>
      )}
    </div>
  );
}

export type EveryValue = NonNullable<RuleBody["trigger"]["every"]>;
export function Every({ value, onChange }: { value: EveryValue; onChange: (e: EveryValue | null) => void }) {
  return (
    <div className="flex items-center gap-2">
      every{" "}
      <input
        type="number"
        min={1}
        className="field w-16 text-right"
        aria-label="How many"
        value={value.n}
        onChange={(e) => onChange({ ...value, n: Math.max(1, Math.floor(Number(e.target.value) || 1)) })}
      />
      <select
        className="field"
        aria-label="Unit"
        value={value.unit}
        onChange={(e) => onChange({ ...value, unit: e.target.value as EveryValue["unit"] })}
      >
        {["days", "weeks", "months", "years"].map((u) => (
          <option key={u}>{u}</option>
        ))}
      </select>
      <button type="button" className="link" onClick={() => onChange(null)}>
        only once
      </button>
    </div>
  );
}

export function Zone({ value, sheetZone, onChange }: { value: string; sheetZone: string; onChange: (z: string | undefined) => void }) {
  return (
    <div className="flex flex-col gap-2">
      <input
        className="field w-56"
        list="rule-zones"
        aria-label="Zone"
        defaultValue={value}
        onBlur={(e) => onChange(e.target.value || undefined)}
      />
      <datalist id="rule-zones">
        {Intl.supportedValuesOf("timeZone").map((z) => (
          <option key={z} value={z} />
        ))}
      </datalist>
      <button type="button" className="link self-start" onClick={() => onChange(undefined)}>
        the sheet’s, {sheetZone}
      </button>
    </div>
  );
}

type Source = RuleBody["to"][number];
export function Addresses({
  columns,
  value,
  onChange,
  gone,
}: {
  columns: Column[];
  value: Source[];
  onChange: (v: Source[]) => void;
  gone?: () => void;
}) {
  const fixed = value
    .filter((v) => v.address)
    .map((v) => v.address)
    .join(", ");
  return (
    <div className="flex flex-col gap-1.5">
      {columns.map((c) => (
        <label key={c.id} className="flex items-center gap-2">
          <input
            type="checkbox"
            className="accent-juniper"
            checked={value.some((v) => v.column === c.id)}
            onChange={(e) => onChange(e.target.checked ? [...value, { column: c.id }] : value.filter((v) => v.column !== c.id))}
          />
          {c.name}
        </label>
      ))}
      <label className="mt-1 flex flex-col gap-1 border-t border-hair-2 pt-2">
        Always to
        <input
          className="field w-64"
          placeholder="name@place.example"
          defaultValue={fixed}
          onBlur={(e) => {
            const t = e.target.value.trim();
            onChange([...value.filter((v) => !v.address), ...(t ? [{ address: t }] : [])]);
          }}
        />
      </label>
      {gone && (
        <button type="button" className="link mt-1 self-start" onClick={gone}>
          leave this out
        </button>
      )}
    </div>
  );
}
