// A condition as a tree of clauses: all or any of some, each a column, how it is
// compared, and with what; any of them turned round by "not".
import { valueType } from "./cell";
import type { Column, Condition } from "../../api/client";
import { DurationField, NumberField } from "../../parts/fields";

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
  "changed-within": "has changed within",
};
const bare = ["empty", "filled", "unreadable"];
const lists = ["one-of", "none-of"];
const pairs = ["between", "days-away"];
// What a date is better said with, where it is not said so already.
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
  if (bare.includes(op)) return undefined;
  if (lists.includes(op)) return [];
  if (op === "days-away") return [0, 7];
  if (op === "changed-within") return "P3D";
  return op === "between" ? [one(c), one(c)] : one(c);
}
function one(c: Column): unknown {
  switch (valueType(c)) {
    case "number":
      return 0;
    case "yes/no":
      return true;
    case "choice":
      return c.options[0]?.id ?? "";
    case "date":
    case "moment":
      return new Date().toISOString().slice(0, 10);
  }
  return "";
}
// A value that still fits another operator stays.
function kept(c: Column, leaf: Leaf, op: string): unknown {
  const list = lists.includes(op);
  if (
    bare.includes(op) ||
    op === "days-away" ||
    op === "changed-within" ||
    leaf.op === "days-away" ||
    leaf.op === "changed-within"
  )
    return blankValue(c, op);
  const old = leaf.value;
  if (old === undefined) return blankValue(c, op);
  if (list) return Array.isArray(old) ? old : [old];
  if (op === "between") return Array.isArray(old) && old.length === 2 ? old : [one(c), one(c)];
  return Array.isArray(old) ? (old[0] ?? one(c)) : old;
}

type Group = { any: boolean; items: Condition[] };
function groupOf(c: Condition | undefined): Group {
  if (c === undefined) return { any: false, items: [] };
  if (c.any !== undefined) return { any: true, items: c.any };
  if (c.all !== undefined) return { any: false, items: c.all };
  return { any: false, items: [c] };
}
const grouped = ({ any, items }: Group): Condition => (any ? { any: items } : { all: items });

type Props = {
  columns: Column[];
  value?: Condition;
  onChange: (c: Condition | undefined) => void;
  /** Whether the past counts: "has changed within" is offered. */
  past?: boolean;
  /** What begins the first clause. */
  first?: string;
};

export function ConditionEditor({ columns, value, onChange, past, first = "Only rows where …" }: Props) {
  return (
    <GroupEditor
      columns={columns}
      past={past}
      group={groupOf(value)}
      first={first}
      onChange={(g) =>
        onChange(
          g.items.length === 0
            ? undefined
            : g.items.length === 1 && value?.any === undefined
              ? g.items[0]
              : grouped(g),
        )
      }
    />
  );
}

function GroupEditor(p: {
  columns: Column[];
  past?: boolean;
  group: Group;
  first?: string;
  onChange: (g: Group) => void;
}) {
  const { columns, group, onChange } = p;
  const { any, items } = group;
  const put = (list: Condition[]) => onChange({ any, items: list });
  const first = columns.find((c) => c.type === "choice") ?? columns[0];
  return (
    <div className="flex flex-col gap-2">
      {(items.length > 1 || any) && (
        <select
          className="field self-start text-ink-2"
          value={any ? "any" : "all"}
          aria-label="All or any"
          onChange={(e) => onChange({ any: e.target.value === "any", items })}
        >
          <option value="all">all of these hold</option>
          <option value="any">any of these holds</option>
        </select>
      )}
      {items.map((c, i) => (
        <ItemEditor
          key={i}
          columns={columns}
          past={p.past}
          item={c}
          onChange={(x) =>
            put(x === undefined ? items.filter((_, k) => k !== i) : items.map((y, k) => (k === i ? x : y)))
          }
        />
      ))}
      {first && (
        <div className="flex gap-4">
          <button type="button" className="link" onClick={() => put([...items, start(first)])}>
            {items.length === 0 ? (p.first ?? "a clause …") : any ? "or …" : "and …"}
          </button>
          {items.length > 0 && (
            <button
              type="button"
              className="link"
              onClick={() =>
                items.length === 1 && !any
                  ? onChange({ any: true, items: [...items, start(first)] })
                  : put([...items, grouped({ any: !any, items: [start(first), start(first)] })])
              }
            >
              {items.length === 1 && !any ? "or …" : any ? "or all of some …" : "and any of some …"}
            </button>
          )}
        </div>
      )}
    </div>
  );
}

function ItemEditor(p: {
  columns: Column[];
  past?: boolean;
  item: Condition;
  onChange: (c: Condition | undefined) => void;
}) {
  const { columns, item, onChange } = p;
  const negated = item.not !== undefined;
  const inner = item.not ?? item;
  const put = (x: Condition) => onChange(negated ? { not: x } : x);
  return (
    <div className="flex items-start gap-2">
      <button
        type="button"
        aria-pressed={negated}
        title="Turn it round: it is not so that …"
        className={`rounded-sm px-1 py-1.5 ${negated ? "bg-wash font-[650] text-brick" : "text-ink-2"}`}
        onClick={() => onChange(negated ? inner : { not: item })}
      >
        not
      </button>
      {inner.all !== undefined || inner.any !== undefined ? (
        <div className="border-l-2 border-hair pl-3">
          <GroupEditor
            columns={columns}
            past={p.past}
            group={groupOf(inner)}
            onChange={(g) => (g.items.length > 0 ? put(grouped(g)) : onChange(undefined))}
          />
        </div>
      ) : inner.not !== undefined ? (
        <div className="border-l-2 border-hair pl-3">
          <ItemEditor
            columns={columns}
            past={p.past}
            item={inner}
            onChange={(x) => (x === undefined ? onChange(undefined) : put(x))}
          />
        </div>
      ) : (
        <LeafEditor columns={columns} past={p.past} leaf={inner as Leaf} onChange={(l) => put(l)} />
      )}
      <button
        type="button"
        className="link pt-1.5"
        aria-label="Remove this clause"
        onClick={() => onChange(undefined)}
      >
        remove
      </button>
    </div>
  );
}

function LeafEditor(p: { columns: Column[]; past?: boolean; leaf: Leaf; onChange: (l: Leaf) => void }) {
  const { columns, leaf, onChange } = p;
  const c = columns.find((x) => x.id === leaf.column);
  if (!c) return <span className="bad py-1.5">a column that is not there any more</span>;
  const ops = c.ops.filter(
    (o) =>
      o === leaf.op ||
      (!hidden[valueType(c)]?.includes(o) && (o !== "changed-within" || (p.past && c.type !== "formula"))),
  );
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
        onChange={(e) => onChange({ column: leaf.column, op: e.target.value, value: kept(c, leaf, e.target.value) })}
      >
        {ops.map((o) => (
          <option key={o} value={o}>
            {opWords[o] ?? o}
          </option>
        ))}
      </select>
      <ValueEditor columns={columns} column={c} leaf={leaf} onChange={(value) => onChange({ ...leaf, value })} />
    </>
  );
}

const isDay = (t: string) => t === "date" || t === "moment";
const isText = (t: string) => t === "text" || t === "email" || t === "choice";
/** Reports whether the values of two columns can be compared. */
export function comparable(a: Column, b: Column): boolean {
  const [x, y] = [valueType(a), valueType(b)];
  return x === y || (isDay(x) && isDay(y)) || (isText(x) && isText(y));
}

type ValueProps = { columns: Column[]; column: Column; leaf: Leaf; onChange: (v: unknown) => void };
function ValueEditor({ columns, column: c, leaf, onChange }: ValueProps) {
  if (bare.includes(leaf.op)) return null;
  if (leaf.op === "changed-within")
    return <DurationField value={String(leaf.value)} onChange={onChange} label="Within" />;
  if (lists.includes(leaf.op))
    return <ListEditor columns={columns} column={c} value={(leaf.value as unknown[]) ?? []} onChange={onChange} />;
  if (pairs.includes(leaf.op)) {
    const [lo, hi] = (leaf.value as unknown[]) ?? [0, 0];
    const part = {
      columns,
      column: c,
      type: leaf.op === "days-away" ? "number" : valueType(c),
      only: leaf.op === "days-away",
    };
    return (
      <span className="flex flex-wrap items-center gap-1">
        <One {...part} value={lo} onChange={(v) => onChange([v, hi])} label="Lowest" /> and{" "}
        <One {...part} value={hi} onChange={(v) => onChange([lo, v])} label="Highest" />
        {leaf.op === "days-away" && " days"}
      </span>
    );
  }
  return <One columns={columns} column={c} type={valueType(c)} value={leaf.value} onChange={onChange} label="Value" />;
}

const columnOf = (v: unknown): string | undefined =>
  typeof v === "object" && v !== null && "column" in v && typeof v.column === "string" ? v.column : undefined;

// Several values: options to tick, or texts and numbers parted by commas;
// columns among them stay.
function ListEditor({
  columns,
  column: c,
  value,
  onChange,
}: {
  columns: Column[];
  column: Column;
  value: unknown[];
  onChange: (v: unknown) => void;
}) {
  const named = value.filter((v) => columnOf(v) !== undefined);
  const plain = value.filter((v) => columnOf(v) === undefined);
  const names = named.map((v) => columns.find((x) => x.id === columnOf(v))?.name ?? "…");
  return (
    <span className="flex max-w-72 flex-col gap-1 pt-1.5">
      {valueType(c) === "choice" && c.options.length > 0 ? (
        <fieldset className="flex flex-wrap gap-x-3 gap-y-1">
          {c.options.map((o) => (
            <label key={o.id} className="flex items-center gap-1">
              <input
                type="checkbox"
                className="accent-juniper"
                checked={plain.includes(o.id)}
                onChange={(e) =>
                  onChange([
                    ...c.options.map((x) => x.id).filter((x) => (x === o.id ? e.target.checked : plain.includes(x))),
                    ...named,
                  ])
                }
              />
              {o.name}
            </label>
          ))}
        </fieldset>
      ) : (
        <input
          className="field"
          aria-label="Values, separated by commas"
          placeholder="one, another"
          defaultValue={plain.join(", ")}
          onBlur={(e) =>
            onChange([
              ...e.target.value
                .split(",")
                .map((x) => x.trim())
                .filter(Boolean)
                .map((x) => (valueType(c) === "number" && Number.isFinite(Number(x)) ? Number(x) : x)),
              ...named,
            ])
          }
        />
      )}
      {named.length > 0 && (
        <span className="text-ink-2">
          or the same as {names.join(", ")}{" "}
          <button type="button" className="link" onClick={() => onChange(plain)}>
            remove
          </button>
        </span>
      )}
    </span>
  );
}

type OneProps = {
  columns: Column[];
  column: Column;
  type: string;
  value: unknown;
  onChange: (v: unknown) => void;
  label: string;
  only?: boolean; // a value, not a column
};
// A value, or another column of the row.
function One(p: OneProps) {
  const others = p.only ? [] : p.columns.filter((x) => x.id !== p.column.id && comparable(p.column, x));
  const other = columnOf(p.value);
  if (other !== undefined) {
    return (
      <span className="flex items-center gap-2">
        <select
          className="field max-w-36"
          aria-label={`${p.label}: column`}
          value={other}
          onChange={(e) => p.onChange({ column: e.target.value })}
        >
          {others.map((x) => (
            <option key={x.id} value={x.id}>
              {x.name}
            </option>
          ))}
        </select>
        <button type="button" className="link" onClick={() => p.onChange(one(p.column))}>
          a value
        </button>
      </span>
    );
  }
  return (
    <span className="flex items-center gap-2">
      <Plain {...p} />
      {others[0] && (
        <button
          type="button"
          className="link"
          title="Compare with another column of the row"
          onClick={() => p.onChange({ column: others[0]?.id })}
        >
          a column
        </button>
      )}
    </span>
  );
}

function Plain({ type, column, value, onChange, label }: OneProps) {
  switch (type) {
    case "choice":
      return (
        <select className="field" aria-label={label} value={String(value)} onChange={(e) => onChange(e.target.value)}>
          {!column.options.some((o) => o.id === value) && (
            <option value={String(value)}>{textOf(value) || "…"}</option>
          )}
          {column.options.map((o) => (
            <option key={o.id} value={o.id}>
              {o.name}
            </option>
          ))}
        </select>
      );
    case "yes/no":
      return (
        <select
          className="field"
          aria-label={label}
          value={value ? "yes" : "no"}
          onChange={(e) => onChange(e.target.value === "yes")}
        >
          <option>yes</option>
          <option>no</option>
        </select>
      );
    case "number":
      return <NumberField label={label} value={value} onChange={onChange} />;
    case "date":
    case "moment":
      return <DayField label={label} value={textOf(value)} onChange={onChange} />;
  }
  return (
    <input
      className="field"
      aria-label={label}
      defaultValue={textOf(value)}
      onBlur={(e) => onChange(e.target.value)}
    />
  );
}

// A day; a moment that came with a time keeps it until another day is chosen.
function DayField({ label, value, onChange }: { label: string; value: string; onChange: (v: string) => void }) {
  const time = value.slice(11, 16);
  return (
    <span className="flex items-center gap-1">
      <input
        className="field"
        type="date"
        aria-label={label}
        value={value.slice(0, 10)}
        onChange={(e) => e.target.value && onChange(e.target.value + (time ? `T${time}` : ""))}
      />
      {time && <span className="text-ink-2">{time}</span>}
    </span>
  );
}

const textOf = (value: unknown): string =>
  typeof value === "string" || typeof value === "number" ? String(value) : "";
