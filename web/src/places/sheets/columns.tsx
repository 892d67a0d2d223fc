import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { type Column, http, type Problem, problemOf, type Schemas, type Sheet, take } from "../../api/client";
import { keys, ofSheet } from "../../api/keys";
import { useWrite } from "../../api/write";
import { draftOf, Leaving, LeftBehind, useDraft, useLeaving } from "../../parts/draft";
import { Section, Slip } from "../../parts/slip";
import { useSettled } from "../../parts/settled";
import { count } from "../../parts/time";
import { typeName } from "./cell";
import { asEdit, ColumnEdit, type Draft, type Effect, EffectWords, sameName } from "./column";
import { FunctionList } from "./formula";
import { Roles } from "./roles";
import { Turned } from "./sets";

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
  const [was, setWas] = useState(list);
  const [tried, setTried] = useState("");
  const changed = JSON.stringify(list) !== JSON.stringify(was);
  const kept = useDraft(draftOf.columns(sheet.id), { list, was, seen }, changed, 0);
  const leaving = useLeaving(changed);
  const begin = (s: Sheet) => {
    const columns = s.columns.map(asEdit);
    setList(columns);
    setWas(columns);
    setSeen(s.seen);
  };
  const follow = () => begin(sheet);
  // What somebody else changes meanwhile is taken over while nothing of ours waits.
  const [heard, setHeard] = useState(sheet.seen);
  if (heard !== sheet.seen) {
    setHeard(sheet.seen);
    if (!changed) follow();
  }
  const { effects, turned, problem } = useEffects(sheet.id, list, changed);
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
  const changes = ofSheet(sheet.id);
  const save = useWrite<boolean, { sheet?: Sheet; job?: Schemas["Job"] }>({
    write: (pausing) =>
      http.PUT("/sheets/{sheet}/columns", {
        params: { path: { sheet: sheet.id } },
        body: { seen, columns: list, pausing },
      }),
    changes,
    saved: (data) => (data.job ? undefined : "The columns are changed."),
    after: ({ job, sheet: s }) => {
      kept.drop();
      if (job) onJob(job);
      if (s) begin(s);
    },
  });
  return (
    <Slip
      title="Columns"
      wide
      onClose={onClose}
      head={<b className="text-ink">Columns of {sheet.name}</b>}
      foot={
        changed && (
          <Foot
            lost={effects.reduce((n, e) => n + e.lost, 0)}
            gone={sheet.columns.filter((c) => !list.some((x) => x.id === c.id))}
            sheet={sheet}
            busy={save.busy}
            problem={problem}
            turned={turned && <Turned sheet={sheet} sets={turned} />}
            shown={problem?.field === `/columns/${at}/formula`}
            needed={tried === JSON.stringify(list) && save.failed?.field === "/pausing"}
            onSave={(pausing) => {
              setTried(JSON.stringify(list));
              void save.do(pausing);
            }}
            onLeave={follow}
          />
        )
      }
    >
      {/* What was left is of the columns as they were: others may have changed them since. */}
      {kept.left && (
        <LeftBehind
          what="list of columns"
          at={kept.left.at}
          onTake={() => {
            if (!kept.left) return;
            const { draft } = kept.left;
            setList(draft.list);
            if (draft.seen === sheet.seen) setWas(draft.was);
            setSeen(draft.seen);
            kept.taken();
          }}
          onDrop={kept.drop}
        />
      )}
      <Leaving of={leaving} what="list of columns" onSave={problem ? undefined : () => save.do(false)} />
      <Roles sheet={sheet} />
      <Section title="Columns, in their order">
        <ol>
          {list.map((c, i) => (
            <Line
              key={c.id ?? `new-${i}`}
              c={c}
              sheet={sheet}
              others={list.filter((x) => x !== c)}
              effect={effects.find((x) => x.column === (c.id ?? `+${i}`))}
              error={problem?.field === `/columns/${i}/formula` ? problem.title : undefined}
              open={at === i}
              first={i === 0}
              last={i === list.length - 1}
              onOpen={(on) => setAt(on ? i : -1)}
              onShift={(by) => shift(i, by)}
              onChange={(x) => put(i, x)}
              onNext={() => {
                const next = lastOf(list, c) + 1;
                setList([...list.slice(0, next), following(c), ...list.slice(next)]);
                setAt(next);
              }}
              onRemove={() => {
                setList((l) => l.filter((_, k) => k !== i));
                setAt(-1);
              }}
            />
          ))}
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
      <Removed sheet={sheet} />
      <FunctionList />
    </Slip>
  );
}

// The place of the last column that belongs together with one.
const lastOf = (list: Draft[], c: Draft) => list.reduce((at, x, i) => (sameName(x.group, c.group) ? i : at), -1);

// The column that comes after one in its group, still without a name.
const following = (c: Draft): Draft => ({
  ...c,
  id: undefined,
  name: "",
  formula: c.type === "formula" ? "" : undefined,
  options: c.options?.map((o) => ({ name: o.name })),
});

// What the change would do to the cells, a moment after typing.
function useEffects(
  sheet: string,
  list: Draft[],
  on: boolean,
): { effects: Effect[]; turned?: Schemas["Consequences"]; problem?: Problem } {
  const body = useSettled(JSON.stringify({ columns: list }), 300);
  const q = useQuery({
    queryKey: keys.columnsEffect(sheet, body),
    enabled: on,
    retry: false,
    meta: { still: true },
    placeholderData: (old: Effect[] | undefined) => old,
    queryFn: () =>
      take(
        http.POST("/sheets/{sheet}/columns/effect", {
          params: { path: { sheet } },
          body: JSON.parse(body) as Schemas["ColumnsEdit"],
        }),
      ),
  });
  const turned = useQuery({
    queryKey: [...keys.columnsEffect(sheet, body), "emails"],
    enabled: on && q.isSuccess && !q.isPlaceholderData,
    retry: false,
    meta: { still: true },
    queryFn: () =>
      take(
        http.POST("/sheets/{sheet}/columns/consequences", {
          params: { path: { sheet } },
          body: JSON.parse(body) as Schemas["ColumnsEdit"],
        }),
      ),
  });
  if (!on) return { effects: [] };
  return { effects: q.data ?? [], turned: turned.data, problem: q.error ? problemOf(q.error) : undefined };
}

type FootProps = {
  lost: number;
  gone: Column[];
  sheet: Sheet;
  busy: boolean;
  problem?: Problem;
  turned: ReactNode;
  shown: boolean; // the problem stands beside what is wrong
  needed: boolean;
  onSave: (pausing: boolean) => void;
  onLeave: () => void;
};

// What deleting columns takes out of sight.
function Gone({ sheet, gone }: { sheet: Sheet; gone: Column[] }) {
  const columns = gone.map((c) => c.id);
  const q = useQuery({
    queryKey: keys.summary(sheet.id, `deleting ${columns.join()}`),
    queryFn: () =>
      take(
        http.POST("/sheets/{sheet}/rows/summary", {
          params: { path: { sheet: sheet.id } },
          body: { view: {}, from: 0, to: sheet.figures.rows, columns },
        }),
      ),
  });
  return (
    <span className="w-full text-marigold">
      Deletes {gone.map((c) => c.name).join(", ")}
      {q.data && `: ${count(q.data.filled, "filled cell")}`}. What they hold is kept, and the{" "}
      {gone.length === 1 ? "column" : "columns"} can be restored, here below.
    </span>
  );
}

function Foot({ lost, gone, sheet, busy, problem, turned, shown, needed, onSave, onLeave }: FootProps) {
  return (
    <>
      <button type="button" className="act" disabled={busy || problem !== undefined} onClick={() => onSave(false)}>
        {lost > 0 ? `Change the columns; ${count(lost, "cell")} will not fit` : "Change the columns"}
      </button>
      {needed && (
        <button type="button" className="act-plain text-brick!" disabled={busy} onClick={() => onSave(true)}>
          Change them, and pause what needs them
        </button>
      )}
      <button type="button" className="link" onClick={onLeave}>
        Cancel
      </button>
      {turned}
      {problem && !shown && (
        <span role="alert" className="w-full text-brick">
          {problem.title}
        </span>
      )}
      {gone.length > 0 && <Gone sheet={sheet} gone={gone} />}
    </>
  );
}

type LineProps = {
  c: Draft;
  sheet: Sheet;
  others: Draft[];
  effect?: Effect;
  error?: string;
  open: boolean;
  first: boolean;
  last: boolean;
  onOpen: (on: boolean) => void;
  onShift: (by: number) => void;
  onChange: (c: Partial<Draft>) => void;
  onNext: () => void;
  onRemove: () => void;
};

// A column in the list; open, it is changed.
function Line({
  c,
  sheet,
  others,
  effect: e,
  error,
  open,
  first,
  last,
  onOpen,
  onShift,
  onChange,
  onNext,
  onRemove,
}: LineProps) {
  const isKey = c.id !== undefined && c.id === sheet.key;
  return (
    <li className="border-b border-hair-2 py-1.5">
      <div className="flex items-baseline gap-3">
        <button
          type="button"
          className="min-w-0 flex-1 truncate text-left hover:underline"
          aria-expanded={open}
          onClick={() => onOpen(!open)}
        >
          <span className={open ? "font-[650]" : ""}>{c.name || "without a name"}</span>
          <span className="text-ink-2">
            , {typeName(c.type)}
            {c.group ? `, of ${c.group}` : ""}
            {c.hidden ? ", hidden" : ""}
            {c.locked ? ", locked" : ""}
            {isKey ? ", the key" : ""}
          </span>
        </button>
        <button
          type="button"
          className="link text-xs"
          disabled={first}
          aria-label={`${c.name} further up`}
          onClick={() => onShift(-1)}
        >
          up
        </button>
        <button
          type="button"
          className="link text-xs"
          disabled={last}
          aria-label={`${c.name} further down`}
          onClick={() => onShift(1)}
        >
          down
        </button>
      </div>
      {e && !open && <EffectWords e={e} />}
      {open && (
        <ColumnEdit
          c={c}
          sheet={sheet}
          others={others}
          effect={e}
          error={error}
          onChange={onChange}
          onNext={onNext}
          onRemove={isKey ? undefined : onRemove}
        />
      )}
    </li>
  );
}

function Removed({ sheet }: { sheet: Sheet }) {
  const restore = useWrite({
    write: (column: string) =>
      http.POST("/sheets/{sheet}/columns/{column}/restore", { params: { path: { sheet: sheet.id, column } } }),
    changes: ofSheet(sheet.id),
  });
  if (sheet.removed.length === 0) return null;
  return (
    <Section title="Deleted columns">
      {sheet.removed.map((c) => (
        <div key={c.id} className="flex items-baseline gap-3 py-0.5">
          <span className="flex-1">
            {c.name}, {typeName(c.type)}
          </span>
          <button type="button" className="link" disabled={restore.busy} onClick={() => void restore.do(c.id)}>
            Restore
          </button>
        </div>
      ))}
    </Section>
  );
}
