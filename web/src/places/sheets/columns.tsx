import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { toast } from "sonner";
import { http, type Problem, type Schemas, type Sheet, words } from "../../api/client";
import { Section, Slip } from "../../parts/slip";
import { count } from "../../parts/time";
import { FormulaField, FunctionList } from "./formula";
import { asEdit } from "./sheet";

type Draft = Schemas["ColumnEdit"];
type Effect = Schemas["ColumnEffect"];
const types = ["text", "number", "date", "moment", "yes/no", "choice", "email", "formula"] as const;
const orders = ["day-month-year", "month-day-year", "year-month-day"] as const;
const written: [string, string][] = [
  ["", "29 Mar 2027"],
  ["short", "29/03/2027"],
  ["long", "29 March 2027"],
  ["weekday", "Monday 29 March"],
  ["iso", "2027-03-29"],
];

// The columns of a sheet: what they are called, what they hold, in which
// order. What a change would do to the cells is shown before it is made.
export function ColumnsSlip({
  sheet,
  column,
  onClose,
  onJob,
}: {
  sheet: Sheet;
  column?: string;
  onClose: () => void;
  onJob: (j: Schemas["Job"]) => void;
}) {
  const [list, setList] = useState<Draft[]>(() => sheet.columns.map(asEdit));
  const [seen, setSeen] = useState(sheet.seen);
  const [at, setAt] = useState(() =>
    Math.max(
      -1,
      sheet.columns.findIndex((c) => c.id === column),
    ),
  );
  const [busy, setBusy] = useState(false);
  const client = useQueryClient();
  const was = useMemo(() => JSON.stringify(sheet.columns.map(asEdit)), [sheet.columns]);
  const changed = JSON.stringify(list) !== was;
  // What somebody else changes meanwhile is taken over while nothing of ours waits.
  useEffect(() => {
    if (seen !== sheet.seen && !changed) {
      setList(sheet.columns.map(asEdit));
      setSeen(sheet.seen);
    }
  }, [sheet, seen, changed]);
  const { effects, problem } = useEffects(sheet.id, list, changed);
  const put = (i: number, c: Partial<Draft>) => setList((l) => l.map((x, k) => (k === i ? { ...x, ...c } : x)));
  const shift = (i: number, by: number) => {
    const to = i + by;
    if (to < 0 || to >= list.length) return;
    setList((l) => {
      const next = [...l];
      const [x] = next.splice(i, 1);
      if (x) next.splice(to, 0, x);
      return next;
    });
    setAt(at === i ? to : at === to ? i : at);
  };
  const lost = effects.reduce((n, e) => n + e.lost, 0);
  const gone = sheet.columns.filter((c) => !list.some((x) => x.id === c.id));
  const save = async () => {
    setBusy(true);
    const { data, error } = await http.PUT("/sheets/{sheet}/columns", {
      params: { path: { sheet: sheet.id } },
      body: { seen, columns: list },
    });
    setBusy(false);
    if (error) return void toast.error(words(error), { duration: 10000 });
    if (data?.job) {
      onJob(data.job);
      return;
    }
    if (data?.sheet) {
      setList(data.sheet.columns.map(asEdit));
      setSeen(data.sheet.seen);
    }
    await client.invalidateQueries();
    toast.success("The columns are changed.");
  };
  const restore = async (id: string) => {
    const { error } = await http.POST("/sheets/{sheet}/columns/{column}/restore", { params: { path: { sheet: sheet.id, column: id } } });
    if (error) toast.error(words(error));
    await client.invalidateQueries();
  };
  return (
    <Slip
      title="Columns"
      wide
      onClose={onClose}
      head={<b className="text-ink">Columns of {sheet.name}</b>}
      foot={
        changed && (
          <>
            <button type="button" className="act" disabled={busy || problem !== undefined} onClick={() => void save()}>
              {lost > 0 ? `Change the columns; ${count(lost, "cell")} will not fit` : "Change the columns"}
            </button>
            <button
              type="button"
              className="link"
              onClick={() => {
                setList(sheet.columns.map(asEdit));
                setSeen(sheet.seen);
              }}
            >
              Leave them as they are
            </button>
            {problem && !problem.field?.endsWith("/formula") && (
              <span role="alert" className="w-full text-brick">
                {problem.title}
              </span>
            )}
            {gone.length > 0 && (
              <span className="w-full text-marigold">
                Takes out {gone.map((c) => c.name).join(", ")}. What the cells hold is kept, and can be brought back.
              </span>
            )}
          </>
        )
      }
    >
      <Roles sheet={sheet} />
      <Section title="In their order">
        <ol>
          {list.map((c, i) => {
            const e = effects.find((x) => x.column === (c.id ?? `+${i}`));
            const open = at === i;
            return (
              <li key={c.id ?? `new-${i}`} className="border-b border-hair-2 py-1.5">
                <div className="flex items-baseline gap-3">
                  <button
                    type="button"
                    className="min-w-0 flex-1 truncate text-left hover:underline"
                    aria-expanded={open}
                    onClick={() => setAt(open ? -1 : i)}
                  >
                    <span className={open ? "font-[650]" : ""}>{c.name || "without a name"}</span>
                    <span className="text-ink-2">
                      , {c.type}
                      {c.hidden ? ", hidden" : ""}
                      {c.locked ? ", locked" : ""}
                      {c.id === sheet.key ? ", the key" : ""}
                    </span>
                  </button>
                  <button
                    type="button"
                    className="link text-xs"
                    disabled={i === 0}
                    aria-label={`${c.name} further up`}
                    onClick={() => shift(i, -1)}
                  >
                    up
                  </button>
                  <button
                    type="button"
                    className="link text-xs"
                    disabled={i === list.length - 1}
                    aria-label={`${c.name} further down`}
                    onClick={() => shift(i, 1)}
                  >
                    down
                  </button>
                </div>
                {e && !open && <EffectWords e={e} />}
                {open && (
                  <Edit
                    c={c}
                    sheet={sheet}
                    others={list.filter((x) => x !== c)}
                    effect={e}
                    error={problem?.field === `/columns/${i}/formula` ? problem.title : undefined}
                    onChange={(x) => put(i, x)}
                    onRemove={
                      c.id === sheet.key
                        ? undefined
                        : () => {
                            setList((l) => l.filter((_, k) => k !== i));
                            setAt(-1);
                          }
                    }
                  />
                )}
              </li>
            );
          })}
        </ol>
        <button
          type="button"
          className="link mt-2"
          onClick={() => {
            setAt(list.length);
            setList([...list, { name: "", type: "text" }]);
          }}
        >
          Add a column
        </button>
      </Section>
      {sheet.removed.length > 0 && (
        <Section title="Taken out">
          {sheet.removed.map((c) => (
            <div key={c.id} className="flex items-baseline gap-3 py-0.5">
              <span className="flex-1">
                {c.name}, {c.type}
              </span>
              <button type="button" className="link" onClick={() => void restore(c.id)}>
                Bring back
              </button>
            </div>
          ))}
        </Section>
      )}
      <FunctionList />
    </Slip>
  );
}

function useEffects(sheet: string, list: Draft[], on: boolean) {
  const [effects, setEffects] = useState<Effect[]>([]);
  const [problem, setProblem] = useState<Problem>();
  const body = JSON.stringify({ columns: list });
  const latest = useRef("");
  useEffect(() => {
    latest.current = body;
    if (!on) {
      setEffects([]);
      setProblem(undefined);
      return;
    }
    const t = window.setTimeout(async () => {
      const { data, error } = await http.POST("/sheets/{sheet}/columns/effect", {
        params: { path: { sheet } },
        body: JSON.parse(body) as Schemas["ColumnsEdit"],
      });
      if (latest.current !== body) return;
      setEffects(data ?? []);
      setProblem(error as Problem | undefined);
    }, 300);
    return () => window.clearTimeout(t);
  }, [sheet, body, on]);
  return { effects, problem };
}

function EffectWords({ e }: { e: Effect }) {
  if (e.type && e.results.length > 0)
    return (
      <p className="mt-1 text-ink-2">
        Comes to a {e.type}: {e.results.map((r) => r || "empty").join(" · ")}
      </p>
    );
  if (e.lost === 0 && e.gained === 0)
    return (
      <p className="mt-1 text-ink-2">{e.filled === 0 ? "No cell is filled." : `All ${count(e.filled, "cell")} keep what they hold.`}</p>
    );
  return (
    <p className={`mt-1 ${e.lost > 0 ? "text-brick" : "text-ink-2"}`}>
      {e.lost > 0 && `${count(e.lost, "cell")} of ${e.filled.toLocaleString("en-GB")} would not fit and stay as text, marked: `}
      {e.misfits.map((m) => `${m.row} “${m.text}”`).join(", ")}
      {e.lost > e.misfits.length && " …"}
      {e.gained > 0 && `${e.lost > 0 ? " · " : ""}${count(e.gained, "cell")} would fit that did not.`}
    </p>
  );
}

function Edit({
  c,
  sheet,
  others,
  effect,
  error,
  onChange,
  onRemove,
}: {
  c: Draft;
  sheet: Sheet;
  others: Draft[];
  effect?: Effect;
  error?: string;
  onChange: (c: Partial<Draft>) => void;
  onRemove?: () => void;
}) {
  const dated =
    c.type === "date" || c.type === "moment" || (c.type === "formula" && (effect?.type === "date" || effect?.type === "moment"));
  const number = c.type === "number" || c.type === "formula";
  const f = c.format ?? {};
  const form = (x: Partial<NonNullable<Draft["format"]>>) => onChange({ format: { ...f, ...x } });
  return (
    <div className="mt-2 mb-1 flex flex-col gap-2.5 border-l-2 border-hair pl-3">
      <div className="flex flex-wrap items-center gap-3">
        <label className="flex items-center gap-2">
          Name
          <input className="field w-44" autoFocus value={c.name} onChange={(e) => onChange({ name: e.target.value })} />
        </label>
        <label className="flex items-center gap-2">
          Holds
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
                {t === "formula" ? "what a formula comes to" : t}
              </option>
            ))}
          </select>
        </label>
      </div>
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
          <select className="field" value={c.written ?? ""} onChange={(e) => onChange({ written: e.target.value as Draft["written"] })}>
            {written.map(([id, w]) => (
              <option key={id} value={id}>
                {w}
              </option>
            ))}
          </select>
        </label>
      )}
      {number && (c.type === "number" || effect?.type === "number" || c.format) && (
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
      )}
      {c.type === "choice" && <Options list={c.options ?? []} onChange={(options) => onChange({ options })} />}
      {effect && <EffectWords e={effect} />}
      <div className="flex flex-wrap items-center gap-4">
        <label className="flex items-center gap-1.5">
          <input
            type="checkbox"
            className="accent-juniper"
            checked={c.hidden ?? false}
            disabled={c.id === sheet.key}
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
            Take this column out
          </button>
        )}
      </div>
    </div>
  );
}

function Options({ list, onChange }: { list: NonNullable<Draft["options"]>; onChange: (l: NonNullable<Draft["options"]>) => void }) {
  const [fresh, setFresh] = useState("");
  const add = () => {
    if (fresh.trim()) onChange([...list, { name: fresh.trim() }]);
    setFresh("");
  };
  return (
    <fieldset>
      <legend className="text-xs text-ink-2">Options, from the lowest to the highest. A new name changes it in every row.</legend>
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
            onClick={() => onChange(list.map((x, k) => (k === i - 1 ? (list[i] as typeof x) : k === i ? (list[i - 1] as typeof x) : x)))}
          >
            up
          </button>
          <button type="button" className="link text-xs" onClick={() => onChange(list.filter((_, k) => k !== i))}>
            take away
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

// Which column identifies a row, carries its address, the name and the
// language: said once, and taken everywhere unless said otherwise.
function Roles({ sheet }: { sheet: Sheet }) {
  const client = useQueryClient();
  const save = async (body: Schemas["SheetPatch"]) => {
    const { error } = await http.PATCH("/sheets/{sheet}", { params: { path: { sheet: sheet.id } }, body });
    if (error) toast.error(words(error));
    await client.invalidateQueries();
  };
  const pick = (label: string, value: string, of: (c: Sheet["columns"][number]) => boolean, on: (id: string) => void, none: string) => (
    <label className="flex items-center justify-between gap-3 py-0.5">
      {label}
      <select className="field w-56" value={value} onChange={(e) => on(e.target.value)}>
        <option value="">{none}</option>
        {sheet.columns.filter(of).map((c) => (
          <option key={c.id} value={c.id}>
            {c.name}
          </option>
        ))}
      </select>
    </label>
  );
  const kind = (c: Sheet["columns"][number]) => (c.type === "formula" ? c.result : c.type);
  return (
    <Section title="What says what a row is">
      {pick(
        "The row is identified by",
        sheet.key,
        (c) => c.type !== "formula",
        (key) => void save({ key }),
        "no column",
      )}
      {pick(
        "Its address stands in",
        sheet.address,
        (c) => kind(c) === "email",
        (address) => void save({ address }),
        "no column",
      )}
      {pick(
        "The name of whom it concerns",
        sheet.nameColumn,
        (c) => kind(c) === "text",
        (nameColumn) => void save({ nameColumn }),
        "no column",
      )}
      {pick(
        "Their language",
        sheet.languageColumn,
        (c) => kind(c) === "choice" || kind(c) === "text",
        (languageColumn) => void save({ languageColumn }),
        "no column",
      )}
      <label className="flex items-center justify-between gap-3 py-0.5">
        Edits count after a rest of
        <select className="field w-56" value={sheet.settleSeconds} onChange={(e) => void save({ settleSeconds: Number(e.target.value) })}>
          {[...new Set([0, 30, 60, 120, 300, 900, 3600, sheet.settleSeconds])]
            .sort((a, b) => a - b)
            .map((n) => (
              <option key={n} value={n}>
                {n === 0 ? "nothing: at once" : n < 60 ? count(n, "second") : n < 3600 ? count(n / 60, "minute") : count(n / 3600, "hour")}
              </option>
            ))}
        </select>
      </label>
    </Section>
  );
}
