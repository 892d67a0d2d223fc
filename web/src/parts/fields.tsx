// Small fields that several pickers share.
import { useState } from "react";
import { readDuration, type Unit, units, writeDuration } from "./duration";

// A number while it is typed: what is no number yet is not handed on.
export function NumberField({
  label,
  value,
  onChange,
  min,
  max,
  whole,
  className = "w-24",
}: {
  label: string;
  value: unknown;
  onChange: (n: number) => void;
  min?: number;
  max?: number;
  whole?: boolean;
  className?: string;
}) {
  const given = typeof value === "number" ? String(value) : "";
  const [text, setText] = useState(given);
  const [was, setWas] = useState(given);
  if (was !== given) {
    setWas(given);
    if (Number(text) !== value || text === "") setText(given);
  }
  const bad = text.trim() === "" || !Number.isFinite(Number(text)) || (whole && !Number.isInteger(Number(text)));
  return (
    <input
      className={`field text-right ${className}`}
      type="number"
      step={whole ? 1 : "any"}
      min={min}
      max={max}
      aria-label={label}
      aria-invalid={bad}
      value={text}
      onChange={(e) => {
        setText(e.target.value);
        const n = Number(e.target.value);
        if (e.target.value.trim() === "" || !Number.isFinite(n) || (whole && !Number.isInteger(n))) return;
        if ((min !== undefined && n < min) || (max !== undefined && n > max)) return;
        onChange(n);
      }}
    />
  );
}

/** A duration (ISO 8601): a number and its unit; of several units, its text. */
export function DurationField({
  label,
  value,
  onChange,
  of = units,
}: {
  label: string;
  value: string;
  onChange: (iso: string) => void;
  of?: readonly Unit[];
}) {
  const d = readDuration(value);
  if (!d) {
    return (
      <input
        className="field w-28"
        aria-label={`${label}, as ISO 8601`}
        defaultValue={value}
        onBlur={(e) => onChange(e.target.value.trim())}
      />
    );
  }
  return (
    <span className="flex items-center gap-1.5">
      <NumberField
        label={label}
        className="w-16"
        whole
        min={1}
        max={9999}
        value={d.n}
        onChange={(n) => onChange(writeDuration({ ...d, n }))}
      />
      <select
        className="field"
        aria-label={`${label}: unit`}
        value={d.unit}
        onChange={(e) => onChange(writeDuration({ n: d.n, unit: e.target.value as Unit }))}
      >
        {(of.includes(d.unit) ? of : [d.unit, ...of]).map((u) => (
          <option key={u}>{u}</option>
        ))}
      </select>
    </span>
  );
}
