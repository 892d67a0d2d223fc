// What stands over the grid: how the sheet is, and how it is looked at.
import { Link } from "@tanstack/react-router";
import type { Rule, Sheet } from "../../api/client";
import { Blank } from "../../parts/picker";
import { clock, count, moment, numberWord, upperFirst } from "../../parts/time";
import { nameable } from "./cell";
import { ConditionEditor } from "./condition";
import type { Colleague } from "./presence";
import { type Only, onlyRows, type View } from "./view";
import { type Kept, OrderPicker, ViewPicker } from "./views";

export function SheetTitle({ sheet: s, now }: { sheet: Sheet; now: Date }) {
  const f = s.figures;
  return (
    <h1>
      <b>{s.name}.</b>{" "}
      {f.rulesOn === 0
        ? "No rule is on yet."
        : `${upperFirst(numberWord(f.rulesOn))} ${f.rulesOn === 1 ? "rule is" : "rules are"} on.`}{" "}
      {f.rulesOn > 0 &&
        (f.nextAt ? (
          <>
            <span className="figure">{count(f.today, "email")}</span> {f.today === 1 ? "goes" : "go"} out today
            {f.today > 0 ? ", the next at " : "; the next goes "}
            {f.today > 0 ? clock(f.nextAt, s.zone) : moment(f.nextAt, s.zone, now)} to{" "}
            {count(f.nextPeople, "person", "people")}.{" "}
          </>
        ) : (
          "Nothing is coming in the next four weeks. "
        ))}
      {f.needs > 0 && (
        <Link to="/log" search={{ sheet: s.id, show: "needs" }} className="needs">
          {count(f.needs, "email needs", "emails need")} you.
        </Link>
      )}
    </h1>
  );
}

/** Who else has the sheet open, or the rule or template. */
export function Here({ there }: { there: Colleague[] }) {
  const names = [...new Map(there.map((c) => [c.name, c.initials]))];
  if (names.length === 0) return null;
  return (
    <p className="mt-1 ml-auto flex flex-none items-center gap-1.5 text-ink-2" role="status">
      {names.slice(0, 5).map(([name, short]) => (
        <span key={name} className="rounded-sm bg-plum px-1 text-[11px] leading-4 font-bold text-paper" title={name}>
          {short}
        </span>
      ))}
      {names.length === 1 ? `${names[0]?.[0]} is here too` : `${names.length} others are here`}
    </p>
  );
}

type Props = {
  sheet: Sheet;
  rules: Rule[];
  view: View;
  current?: string; // the kept view
  filterWords: string;
  total?: number;
  open: boolean; // the filter
  onOpen: (on: boolean) => void;
  onView: (v: View) => void;
  onUse: (v: Kept | null) => void;
};

function onlyWords(only: Only | undefined, rules: Rule[]): string {
  if (!only) return "";
  const rule = rules.find((r) => r.id === only.rule);
  return `${onlyRows.find((o) => o.id === only.rows)?.name ?? ""}${rule ? ` by ${rule.letter} ${rule.body.name}` : ""}`;
}

// Rows by what the rules make of them.
function OnlyPicker(p: {
  only?: Only;
  rules: Rule[];
  lacks: Only["rows"][];
  onChange: (o: Only | undefined) => void;
}) {
  const { only, rules, onChange } = p;
  const on = rules.filter((r) => r.state === "on");
  const chosen = onlyRows.find((o) => o.id === only?.rows);
  return (
    <div className="mb-3 flex flex-wrap items-center gap-2 border-b border-hair-2 pb-3">
      <select
        className="field"
        aria-label="Rows that are shown"
        value={only?.rows ?? ""}
        onChange={(e) => onChange(e.target.value ? { rows: e.target.value as Only["rows"] } : undefined)}
      >
        <option value="">all rows</option>
        {onlyRows
          .filter((o) => !p.lacks.includes(o.id))
          .map((o) => (
            <option key={o.id} value={o.id}>
              {o.name}
            </option>
          ))}
      </select>
      {only && chosen?.byRule && (
        <label className="flex items-center gap-2">
          by
          <select
            className="field max-w-56"
            value={only.rule ?? ""}
            onChange={(e) =>
              onChange(e.target.value ? { rows: only.rows, rule: e.target.value } : { rows: only.rows })
            }
          >
            <option value="">any rule that is on</option>
            {rules
              .filter((r) => on.includes(r) || r.id === only.rule)
              .map((r) => (
                <option key={r.id} value={r.id}>
                  {r.letter} {r.body.name}
                </option>
              ))}
          </select>
        </label>
      )}
    </div>
  );
}

/** Which rows are shown and in which order, as a sentence. */
export function Looking({ sheet: s, rules, view, current, filterWords, total, open, onOpen, onView, onUse }: Props) {
  const orderWords = (view.sort ?? [])
    .map(
      (k) => `${s.columns.find((c) => c.id === k.column)?.name.toLowerCase() ?? "…"}${k.down ? ", descending" : ""}`,
    )
    .join("; then ");
  return (
    <span>
      Showing{" "}
      <Blank
        title="Only rows where this holds"
        words={
          [onlyWords(view.only, rules), view.filter && (filterWords || "…")].filter(Boolean).join(", ") || "all rows"
        }
        open={open}
        onOpenChange={onOpen}
        label="Filter"
      >
        <OnlyPicker
          only={view.only}
          rules={rules}
          lacks={[...(s.key ? [] : (["doubled"] as const)), ...(s.address ? [] : (["same-address"] as const))]}
          onChange={(only) => onView({ ...view, only })}
        />
        <ConditionEditor
          columns={nameable(s)}
          value={view.filter}
          onChange={(filter) => onView({ ...view, filter })}
        />
        <p className="mt-3 text-ink-2">
          {total === undefined ? "" : `${count(total, "row")} of ${s.figures.rows.toLocaleString("en-GB")}`}
        </p>
      </Blank>
      , sorted by{" "}
      <Blank title="Sorted by" words={orderWords || "entry"} label="Sort">
        <OrderPicker sheet={s} sort={view.sort ?? []} onChange={(sort) => onView({ ...view, sort })} />
      </Blank>
      , holding{" "}
      <Blank title="Holding this text in any cell" words={view.find ? `“${view.find}”` : "anything"} label="Text">
        <input
          className="field w-60"
          aria-label="Text in any cell"
          defaultValue={view.find ?? ""}
          onChange={(e) => onView({ ...view, find: e.target.value.trim() || undefined })}
        />
      </Blank>
      {" · "}
      <ViewPicker sheet={s} view={view} current={current} onUse={onUse} />
      {" · "}
      {total === undefined ? "" : count(total, "row")}
    </span>
  );
}
