import { valueType } from "./cell";
import type { Column, Condition } from "../../api/client";

const opWords: Record<string, string> = {
  is: "is",
  "is-not": "is not",
  "one-of": "is one of",
  "none-of": "is none of",
  empty: "is empty",
  filled: "is filled",
  unreadable: "cannot be read",
  contains: "contains",
  "starts-with": "starts with",
  "ends-with": "ends with",
  "<": "is below",
  "<=": "is at most",
  ">": "is above",
  ">=": "is at least",
  between: "is between",
  before: "is before",
  after: "is after",
  on: "is on",
  "days-away": "is so many days away",
};
const without = ["empty", "filled", "unreadable"];
const lists = ["one-of", "none-of"];
const pairs = ["between", "days-away"];
// What a date is better said with.
const hidden: Record<string, string[]> = {
  date: ["is", "is-not", "one-of", "none-of", "<", ">", "<=", ">="],
  moment: ["is", "is-not", "one-of", "none-of", "<", ">", "<=", ">="],
};

type Leaf = { column: string; op: string; value?: unknown };

export const blankLeaf = (c: Column) => start(c) as Condition;
function start(c: Column): Leaf {
  switch (valueType(c)) {
    case "choice":
      return { column: c.id, op: "one-of", value: [] };
    case "yes/no":
      return { column: c.id, op: "is", value: true };
    case "number":
      return { column: c.id, op: ">=", value: 0 };
    case "date":
    case "moment":
      return { column: c.id, op: "days-away", value: [0, 7] };
    default:
      return { column: c.id, op: "filled" };
  }
}
function blankValue(c: Column, op: string): unknown {
  if (without.includes(op)) return undefined;
  if (lists.includes(op)) return [];
  if (op === "days-away") return [0, 7];
  const one = valueType(c) === "number" ? 0 : valueType(c) === "yes/no" ? true : c.type === "choice" ? (c.options[0]?.id ?? "") : "";
  return op === "between" ? [one, one] : one;
}

// A flat condition: all or any of some clauses. One that is built otherwise is
// kept as it is, and said in words by who shows it.
export function ConditionEditor({
  columns,
  value,
  onChange,
}: {
  columns: Column[];
  value?: Condition;
  onChange: (c: Condition | undefined) => void;
}) {
  const any = value?.any !== undefined;
  const items: Condition[] = value === undefined ? [] : (value.any ?? value.all ?? [value]);
  const put = (list: Condition[], asAny = any) => {
    if (list.length === 0) onChange(undefined);
    else if (list.length === 1) onChange(list[0]);
    else onChange(asAny ? { any: list } : { all: list });
  };
  const first = columns.find((c) => c.type === "choice") ?? columns[0];
  return (
    <div className="flex flex-col gap-2">
      {items.length > 1 && (
        <label className="flex items-center gap-2 text-ink-2">
          <select
            className="field"
            value={any ? "any" : "all"}
            aria-label="All or any"
            onChange={(e) => put(items, e.target.value === "any")}
          >
            <option value="all">all of these hold</option>
            <option value="any">any of these holds</option>
          </select>
        </label>
      )}
      {items.map((c, i) => (
        <div key={i} className="flex items-start gap-2">
          {c.column ? (
            <LeafEditor columns={columns} leaf={c as Leaf} onChange={(l) => put(items.map((x, k) => (k === i ? (l as Condition) : x)))} />
          ) : (
            <span className="py-1.5">a part built elsewhere, kept as it is</span>
          )}
          <button
            type="button"
            className="link pt-1.5"
            aria-label="Take this clause out"
            onClick={() => put(items.filter((_, k) => k !== i))}
          >
            take out
          </button>
        </div>
      ))}
      {first && (
        <button type="button" className="link self-start" onClick={() => put([...items, start(first)])}>
          {items.length === 0 ? "Only rows where …" : any ? "or …" : "and …"}
        </button>
      )}
    </div>
  );
}

function LeafEditor({ columns, leaf, onChange }: { columns: Column[]; leaf: Leaf; onChange: (l: Leaf) => void }) {
  const c = columns.find((x) => x.id === leaf.column);
  if (!c) return <span className="bad">a column that is not there any more</span>;
  const ops = c.ops.filter((o) => o === leaf.op || !hidden[valueType(c)]?.includes(o));
  return (
    <>
      <select
        className="field max-w-36"
        value={leaf.column}
        aria-label="Column"
        onChange={(e) => {
          const next = columns.find((x) => x.id === e.target.value);
          if (next) onChange(start(next));
        }}
      >
        {columns.map((x) => (
          <option key={x.id} value={x.id}>
            {x.name}
          </option>
        ))}
      </select>
      <select
        className="field"
        value={leaf.op}
        aria-label="How"
        onChange={(e) => onChange({ column: leaf.column, op: e.target.value, value: blankValue(c, e.target.value) })}
      >
        {ops.map((o) => (
          <option key={o} value={o}>
            {opWords[o] ?? o}
          </option>
        ))}
      </select>
      <ValueEditor column={c} leaf={leaf} onChange={(value) => onChange({ ...leaf, value })} />
    </>
  );
}

function ValueEditor({ column: c, leaf, onChange }: { column: Column; leaf: Leaf; onChange: (v: unknown) => void }) {
  if (without.includes(leaf.op)) return null;
  if (leaf.value && typeof leaf.value === "object" && !Array.isArray(leaf.value)) return <span className="py-1.5">another column</span>;
  if (c.type === "choice" && lists.includes(leaf.op)) {
    const on = (leaf.value as string[]) ?? [];
    return (
      <fieldset className="flex max-w-64 flex-wrap gap-x-3 gap-y-1 pt-1.5">
        {c.options.map((o) => (
          <label key={o.id} className="flex items-center gap-1">
            <input
              type="checkbox"
              className="accent-juniper"
              checked={on.includes(o.id)}
              onChange={(e) => onChange(c.options.map((x) => x.id).filter((x) => (x === o.id ? e.target.checked : on.includes(x))))}
            />
            {o.name}
          </label>
        ))}
      </fieldset>
    );
  }
  if (lists.includes(leaf.op)) {
    return (
      <input
        className="field"
        aria-label="Values, parted by commas"
        placeholder="one, another"
        defaultValue={((leaf.value as unknown[]) ?? []).join(", ")}
        onBlur={(e) =>
          onChange(
            e.target.value
              .split(",")
              .map((x) => x.trim())
              .filter(Boolean)
              .map((x) => (valueType(c) === "number" ? Number(x) : x)),
          )
        }
      />
    );
  }
  if (pairs.includes(leaf.op)) {
    const [lo, hi] = (leaf.value as unknown[]) ?? [0, 0];
    const type = leaf.op === "days-away" ? "number" : valueType(c);
    return (
      <span className="flex items-center gap-1">
        <One type={type} column={c} value={lo} onChange={(v) => onChange([v, hi])} label="Lowest" /> and{" "}
        <One type={type} column={c} value={hi} onChange={(v) => onChange([lo, v])} label="Highest" />
      </span>
    );
  }
  return <One type={valueType(c)} column={c} value={leaf.value} onChange={onChange} label="Value" />;
}

function One({
  type,
  column,
  value,
  onChange,
  label,
}: {
  type: string;
  column: Column;
  value: unknown;
  onChange: (v: unknown) => void;
  label: string;
}) {
  switch (type) {
    case "choice":
      return (
        <select className="field" aria-label={label} value={String(value)} onChange={(e) => onChange(e.target.value)}>
          {column.options.map((o) => (
            <option key={o.id} value={o.id}>
              {o.name}
            </option>
          ))}
        </select>
      );
    case "yes/no":
      return (
        <select className="field" aria-label={label} value={value ? "yes" : "no"} onChange={(e) => onChange(e.target.value === "yes")}>
          <option>yes</option>
          <option>no</option>
        </select>
      );
    case "number":
      return (
        <input
          className="field w-24 text-right"
          type="number"
          step="any"
          aria-label={label}
          value={textOf(value)}
          onChange={(e) => onChange(e.target.value === "" ? 0 : Number(e.target.value))}
        />
      );
    case "date":
    case "moment":
      return (
        <input
          className="field"
          type="date"
          aria-label={label}
          value={textOf(value).slice(0, 10)}
          onChange={(e) => onChange(e.target.value)}
        />
      );
  }
  return <input className="field" aria-label={label} defaultValue={textOf(value)} onBlur={(e) => onChange(e.target.value)} />;
}

const textOf = (value: unknown): string => (typeof value === "string" || typeof value === "number" ? String(value) : "");
