// One column while it is changed: what it is called, what it holds, how it is
// written.
import { useEffect, useRef, useState } from "react";
import type { Column, Schemas, Sheet } from "../../api/client";
import { count } from "../../parts/time";
import { typeName } from "./cell";
import { FormulaField } from "./formula";

export type Draft = Schemas["ColumnEdit"];
export type Effect = Schemas["ColumnEffect"];
type Format = NonNullable<Draft["format"]>;
const types = ["text", "number", "date", "moment", "yes/no", "choice", "email", "file", "formula"] as const;
const orders = ["day-month-year", "month-day-year", "year-month-day"] as const;
const written: [string, string][] = [
  ["", "29 Mar 2027"],
  ["short", "29/03/2027"],
  ["long", "29 March 2027"],
  ["weekday", "Monday 29 March"],
  ["iso", "2027-03-29"],
];

// A column as it is, in the form in which it is changed.
export function asEdit(c: Column): Schemas["ColumnEdit"] {
  return {
    id: c.id,
    name: c.name,
    type: c.type,
    order: c.order,
    options: c.options,
    format: c.format,
    formula: c.formula,
    group: c.group,
    width: c.width,
    hidden: c.hidden,
    locked: c.locked,
    written: c.written,
  };
}

export function EffectWords({ e }: { e: Effect }) {
  if (e.type && e.results.length > 0)
    return (
      <p className="mt-1 text-ink-2">
        Comes to a {typeName(e.type)}: {e.results.map((r) => r || "empty").join(" · ")}
      </p>
    );
  if (e.lost === 0 && e.gained === 0)
    return (
      <p className="mt-1 text-ink-2">
        {e.filled === 0 ? "No cell is filled." : `All ${count(e.filled, "cell")} keep what they hold.`}
      </p>
    );
  return (
    <p className={`mt-1 ${e.lost > 0 ? "text-brick" : "text-ink-2"}`}>
      {e.lost > 0 &&
        `${count(e.lost, "cell")} of ${e.filled.toLocaleString("en-GB")} would not fit and stay as text, marked: `}
      {e.misfits.map((m) => `${m.row} “${m.text}”`).join(", ")}
      {e.lost > e.misfits.length && " …"}
      {e.gained > 0 && `${e.lost > 0 ? " · " : ""}${count(e.gained, "cell")} would fit that did not.`}
    </p>
  );
}

export function ColumnEdit({
  c,
  sheet,
  others,
  effect,
  error,
  onChange,
  onNext,
  onRemove,
}: {
  c: Draft;
  sheet: Sheet;
  others: Draft[];
  effect?: Effect;
  error?: string;
  onChange: (c: Partial<Draft>) => void;
  onNext: () => void;
  onRemove?: () => void;
}) {
  const dated =
    c.type === "date" ||
    c.type === "moment" ||
    (c.type === "formula" && (effect?.type === "date" || effect?.type === "moment"));
  const number = c.type === "number" || c.type === "formula";
  return (
    <div className="mt-2 mb-1 flex flex-col gap-2.5 border-l-2 border-hair pl-3">
      <NameAndType c={c} onChange={onChange} />
      {c.type === "formula" && (
        <FormulaField
          value={c.formula ?? ""}
          onChange={(formula) => onChange({ formula })}
          names={others.map((o) => ({ name: o.name, type: o.type }))}
          error={error}
        />
      )}
      {(c.type === "date" || c.type === "moment") && (
        <label className="flex items-center gap-2">
          Typed as
          <select
            className="field"
            value={c.order ?? "day-month-year"}
            onChange={(e) => onChange({ order: e.target.value as Draft["order"] })}
          >
            {orders.map((o) => (
              <option key={o} value={o}>
                {o.replaceAll("-", ", ")}
              </option>
            ))}
          </select>
        </label>
      )}
      {dated && (
        <label className="flex items-center gap-2">
          Shown as
          <select
            className="field"
            value={c.written ?? ""}
            onChange={(e) => onChange({ written: e.target.value as Draft["written"] })}
          >
            {written.map(([id, w]) => (
              <option key={id} value={id}>
                {w}
              </option>
            ))}
          </select>
        </label>
      )}
      {number && (c.type === "number" || effect?.type === "number" || c.format) && (
        <NumberFormat f={c.format ?? {}} onChange={(format) => onChange({ format })} />
      )}
      {c.type === "choice" && <Options list={c.options ?? []} onChange={(options) => onChange({ options })} />}
      <Together c={c} others={others} onChange={onChange} onNext={onNext} />
      {effect && <EffectWords e={effect} />}
      <Traits c={c} isKey={c.id === sheet.key} onChange={onChange} onRemove={onRemove} />
    </div>
  );
}

function NameAndType({ c, onChange }: { c: Draft; onChange: (c: Partial<Draft>) => void }) {
  // The slip of a column was opened to change it: its name is where typing begins.
  const name = useRef<HTMLInputElement>(null);
  useEffect(() => name.current?.focus(), []);
  return (
    <div className="flex flex-wrap items-center gap-3">
      <label className="flex items-center gap-2">
        Name
        <input className="field w-44" ref={name} value={c.name} onChange={(e) => onChange({ name: e.target.value })} />
      </label>
      <label className="flex items-center gap-2">
        Type
        <select
          className="field"
          value={c.type}
          onChange={(e) => {
            const type = e.target.value as Draft["type"];
            onChange({
              type,
              order: type === "date" || type === "moment" ? (c.order ?? "day-month-year") : undefined,
              options: type === "choice" ? (c.options ?? []) : undefined,
              formula: type === "formula" ? (c.formula ?? "") : undefined,
            });
          }}
        >
          {types.map((t) => (
            <option key={t} value={t}>
              {typeName(t)}
            </option>
          ))}
        </select>
      </label>
    </div>
  );
}

/** Reports whether two names of a group mean the same. */
export const sameName = (a = "", b = "") => a.trim().toLowerCase() === b.trim().toLowerCase();

// The columns that this one belongs together with, such as those of the other
// months.
function Together({
  c,
  others,
  onChange,
  onNext,
}: {
  c: Draft;
  others: Draft[];
  onChange: (c: Partial<Draft>) => void;
  onNext: () => void;
}) {
  const names = [...new Set(others.map((o) => o.group ?? "").filter(Boolean))];
  const along = others.filter((o) => c.group?.trim() && sameName(o.group, c.group));
  // What a formula comes to is known to the server alone.
  const unlike = along.filter((o) => o.type !== c.type && o.type !== "formula" && c.type !== "formula");
  return (
    <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
      <label className="flex items-center gap-2">
        Group
        <input
          className="field w-36"
          list="groups"
          maxLength={100}
          placeholder="none"
          value={c.group ?? ""}
          onChange={(e) => onChange({ group: e.target.value })}
        />
      </label>
      <datalist id="groups">
        {names.map((n) => (
          <option key={n} value={n} />
        ))}
      </datalist>
      {c.group?.trim() && (
        <>
          <button type="button" className="link" onClick={onNext}>
            Add the next one
          </button>
          <p className={`w-full ${unlike.length > 0 ? "text-marigold" : "text-ink-2"}`}>
            {unlike.length > 0
              ? `${unlike.map((o) => o.name).join(", ")} ${unlike.length === 1 ? "holds" : "hold"} something else: columns of a group have one type.`
              : `${along.length > 0 ? `Together with ${along.map((o) => o.name).join(", ")}. ` : ""}Rules, templates and formulas may mean the latest of ${c.group.trim()}, whichever column that is.`}
          </p>
        </>
      )}
    </div>
  );
}

function NumberFormat({ f, onChange }: { f: Format; onChange: (f: Format) => void }) {
  const form = (x: Partial<Format>) => onChange({ ...f, ...x });
  return (
    <div className="flex flex-wrap items-center gap-3">
      <label className="flex items-center gap-2">
        Decimals
        <select
          className="field"
          value={f.decimals ?? ""}
          onChange={(e) => form({ decimals: e.target.value === "" ? undefined : Number(e.target.value) })}
        >
          <option value="">as typed</option>
          {[0, 1, 2, 3, 4].map((n) => (
            <option key={n}>{n}</option>
          ))}
        </select>
      </label>
      <label className="flex items-center gap-1.5">
        <input
          type="checkbox"
          className="accent-juniper"
          checked={f.thousands ?? false}
          onChange={(e) => form({ thousands: e.target.checked })}
        />
        thousands
      </label>
      <label className="flex items-center gap-2">
        Unit
        <input
          className="field w-16"
          value={f.unit ?? ""}
          onChange={(e) => form({ unit: e.target.value || undefined, currency: undefined, percent: undefined })}
        />
      </label>
      <label className="flex items-center gap-2">
        Currency
        <input
          className="field w-14"
          value={f.currency ?? ""}
          onChange={(e) => form({ currency: e.target.value || undefined, unit: undefined, percent: undefined })}
        />
      </label>
      <label className="flex items-center gap-1.5">
        <input
          type="checkbox"
          className="accent-juniper"
          checked={f.percent ?? false}
          onChange={(e) => form({ percent: e.target.checked || undefined, unit: undefined, currency: undefined })}
        />
        per cent
      </label>
    </div>
  );
}

function Traits({
  c,
  isKey,
  onChange,
  onRemove,
}: {
  c: Draft;
  isKey: boolean;
  onChange: (c: Partial<Draft>) => void;
  onRemove?: () => void;
}) {
  return (
    <div className="flex flex-wrap items-center gap-4">
      <label className="flex items-center gap-1.5">
        <input
          type="checkbox"
          className="accent-juniper"
          checked={c.hidden ?? false}
          disabled={isKey}
          onChange={(e) => onChange({ hidden: e.target.checked })}
        />
        hidden
      </label>
      <label className="flex items-center gap-1.5">
        <input
          type="checkbox"
          className="accent-juniper"
          checked={c.locked ?? false}
          onChange={(e) => onChange({ locked: e.target.checked })}
        />
        only coordinators change it
      </label>
      <label className="flex items-center gap-2">
        Width
        <input
          type="number"
          min={0}
          max={900}
          step={10}
          className="field w-20"
          value={c.width || ""}
          placeholder="usual"
          onChange={(e) => onChange({ width: Number(e.target.value) || 0 })}
        />
      </label>
      {onRemove && (
        <button type="button" className="link ml-auto text-brick!" onClick={onRemove}>
          Delete this column
        </button>
      )}
    </div>
  );
}

function Options({
  list,
  onChange,
}: {
  list: NonNullable<Draft["options"]>;
  onChange: (l: NonNullable<Draft["options"]>) => void;
}) {
  const [fresh, setFresh] = useState("");
  const add = () => {
    if (fresh.trim()) onChange([...list, { name: fresh.trim() }]);
    setFresh("");
  };
  return (
    <fieldset>
      <legend className="text-xs text-ink-2">
        Options, from the lowest to the highest. A new name changes it in every row.
      </legend>
      {list.map((o, i) => (
        <div key={o.id ?? i} className="mt-1 flex items-center gap-2">
          <input
            className="field w-48"
            aria-label={`Option ${i + 1}`}
            value={o.name}
            onChange={(e) => onChange(list.map((x, k) => (k === i ? { ...x, name: e.target.value } : x)))}
          />
          <button
            type="button"
            className="link text-xs"
            disabled={i === 0}
            onClick={() =>
              onChange(
                list.map((x, k) => (k === i - 1 ? (list[i] as typeof x) : k === i ? (list[i - 1] as typeof x) : x)),
              )
            }
          >
            up
          </button>
          <button type="button" className="link text-xs" onClick={() => onChange(list.filter((_, k) => k !== i))}>
            Remove
          </button>
        </div>
      ))}
      <div className="mt-1 flex items-center gap-2">
        <input
          className="field w-48"
          aria-label="New option"
          placeholder="another option"
          value={fresh}
          onChange={(e) => setFresh(e.target.value)}
          onBlur={add}
          onKeyDown={(e) => {
            if (e.key === "Enter") {
              e.preventDefault();
              add();
            }
          }}
        />
      </div>
    </fieldset>
  );
}
