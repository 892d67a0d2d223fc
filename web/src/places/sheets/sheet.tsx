import { useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { toast } from "sonner";
import { api, type Column, http, type Mark, type Rule, type Schemas, type Sheet, words } from "../../api/client";
import { MarkIcon } from "../../parts/mark";
import { Blank } from "../../parts/picker";
import { useMay, useNow } from "../../parts/session";
import { useKey } from "../../parts/shortcuts";
import { makeAxis } from "../../parts/track";
import { clock, count, moment, numberWord, upperFirst } from "../../parts/time";
import { DeliverySlip } from "../log/delivery";
import { Clashes } from "./clash";
import { ColumnsSlip } from "./columns";
import { blankLeaf, ConditionEditor } from "./condition";
import { useEdits } from "./edits";
import { type Box, Grid, type GridHandle } from "./grid";
import { CellSlip, SheetHistory } from "./history";
import { JobLine, useJob } from "./job";
import { type Colleague, usePresence } from "./presence";
import { RowSlip } from "./row";
import { TakeOut } from "./takeout";
import { isPlain, tidy, type View } from "./view";
import { OrderPicker, ViewPicker } from "./views";

// What the address of a sheet says: which slip is open, and how the sheet is
// looked at, so that a link can be sent.
type Search = {
  row?: string;
  email?: string;
  cell?: string;
  slip?: "columns" | "history" | "out";
  column?: string;
  view?: string;
  show?: View;
  job?: string;
};

export function SheetPlace() {
  const { sheet: id } = useParams({ strict: false }) as { sheet: string };
  const sheet = api.useQuery("get", "/sheets/{sheet}", { params: { path: { sheet: id } } });
  if (sheet.error)
    return (
      <p className="p-8">
        {words(sheet.error)}{" "}
        <Link to="/sheets" className="link">
          All sheets
        </Link>
      </p>
    );
  return sheet.data ? <SheetPage key={id} sheet={sheet.data} /> : null;
}

function SheetPage({ sheet: s }: { sheet: Sheet }) {
  const id = s.id;
  const search = useSearch({ strict: false }) as Search;
  const navigate = useNavigate();
  const rules = api.useQuery("get", "/sheets/{sheet}/rules", { params: { path: { sheet: id } } });
  const kept = api.useQuery("get", "/sheets/{sheet}/views", { params: { path: { sheet: id } } }, { enabled: search.view !== undefined });
  const [lit, setLit] = useState<string | null>(null);
  const [filterOpen, setFilterOpen] = useState(false);
  const [filterWords, setWords] = useState("");
  const [total, setTotal] = useState<number>();
  const [box, setBox] = useState<Box | null>(null);
  const [at, setAt] = useState<{ row?: string; column?: string }>({});
  const may = useMay("coordinator");
  const mayEdit = useMay("editor");
  const now = useNow(30000);
  const client = useQueryClient();
  const edits = useEdits(s);
  const there = usePresence(id, at);
  const zone = s.zone;
  const minute = Math.floor(now.getTime() / 60000);
  const axis = useMemo(() => makeAxis(new Date(minute * 60000), zone), [minute, zone]);
  const grid = useRef<GridHandle>(null);

  const open = useCallback(
    (x: Partial<Search>) =>
      void navigate({
        to: "/sheets/$sheet",
        params: { sheet: id },
        search: ((old: Search) => ({ view: old.view, show: old.show, ...x })) as never,
      }),
    [navigate, id],
  );
  // A kept view by its id; what has been changed of it since stands in show.
  const keptView = kept.data?.find((v) => v.id === search.view)?.spec as View | undefined;
  const view = useMemo(() => search.show ?? keptView ?? {}, [search.show, keptView]);
  const setView = useCallback(
    (v: View) =>
      void navigate({
        to: "/sheets/$sheet",
        params: { sheet: id },
        search: ((old: Search) => ({ ...old, show: isPlain(v) && !old.view ? undefined : tidy(v) })) as never,
        replace: true,
      }),
    [navigate, id],
  );
  const close = () => open({});

  useKey(
    "/",
    useCallback(() => setFilterOpen(true), []),
  );
  const add = useCallback(() => {
    if (!mayEdit) return;
    edits.change("add", [{ op: "add", cells: {} }], async () => {
      setView({});
      await client.invalidateQueries({ queryKey: ["get", "/sheets/{sheet}"] });
      await client.invalidateQueries({ queryKey: ["rows", id] });
      grid.current?.focusLast();
    });
  }, [mayEdit, edits, setView, client, id]);
  useKey("n", add, mayEdit);

  const job = useJob(search.job, (j) => {
    if (j.state === "done") {
      if (j.import?.change) edits.remember(j.import.change);
      toast.success(
        j.import
          ? `${count(j.import.new, "row")} added, ${j.import.changed.toLocaleString("en-GB")} changed, ${j.import.gone.toLocaleString("en-GB")} gone. Ctrl Z in the grid takes it back.`
          : "The columns are changed.",
        { duration: 8000 },
      );
    } else
      toast.error(j.state === "stopped" ? "Stopped. Nothing was changed." : (j.problem ?? "It failed; nothing was changed."), {
        duration: 12000,
      });
    void client.invalidateQueries();
    open({ job: undefined });
  });

  // Columns are changed as a whole; one alone is put into their list.
  const saveColumns = async (change: (c: Schemas["ColumnEdit"], col: Column) => Schemas["ColumnEdit"]) => {
    const { error } = await http.PUT("/sheets/{sheet}/columns", {
      params: { path: { sheet: id } },
      body: { seen: s.seen, columns: s.columns.map((c) => change(asEdit(c), c)) },
    });
    if (error) toast.error(words(error));
    await client.invalidateQueries({ queryKey: ["get", "/sheets/{sheet}"] });
  };
  const freeze = async (n: number) => {
    const { error } = await http.PATCH("/sheets/{sheet}", { params: { path: { sheet: id } }, body: { frozen: Math.min(5, n) } });
    if (error) toast.error(words(error));
    await client.invalidateQueries({ queryKey: ["get", "/sheets/{sheet}"] });
  };

  const f = s.figures;
  const press = (m: Mark) => (m.delivery ? open({ email: m.delivery }) : m.row && open({ row: m.row }));
  const orderWords = (view.sort ?? [])
    .map((k) => `${s.columns.find((c) => c.id === k.column)?.name.toLowerCase() ?? "…"}${k.down ? ", from the last" : ""}`)
    .join("; then ");
  return (
    <div className="relative flex min-h-0 flex-1 flex-col">
      <div className="flex flex-none items-start gap-6 px-5 pt-[18px] pb-2.5">
        <h1>
          <b>{s.name}.</b>{" "}
          {f.rulesOn === 0 ? "No rule is on yet." : `${upperFirst(numberWord(f.rulesOn))} ${f.rulesOn === 1 ? "rule is" : "rules are"} on.`}{" "}
          {f.rulesOn > 0 &&
            (f.nextAt ? (
              <>
                <span className="figure">{count(f.today, "email")}</span> {f.today === 1 ? "goes" : "go"} out today
                {f.today > 0 ? ", the next at " : "; the next goes "}
                {f.today > 0 ? clock(f.nextAt, zone) : moment(f.nextAt, zone, now)} to {count(f.nextPeople, "person", "people")}.{" "}
              </>
            ) : (
              "Nothing is coming in the next four weeks. "
            ))}
          {f.needs > 0 && (
            <Link to="/log" search={{ sheet: id, show: "needs" } as never} className="needs">
              {count(f.needs, "email needs", "emails need")} you.
            </Link>
          )}
        </h1>
        <Here there={there} />
      </div>
      <div className="flex flex-none flex-wrap items-baseline gap-x-4 gap-y-1 px-5 pb-2 text-ink-2">
        <span>
          Showing{" "}
          <Blank
            title="Only rows where this holds"
            words={view.filter ? filterWords || "…" : "all rows"}
            open={filterOpen}
            onOpenChange={setFilterOpen}
            label="Filter"
          >
            <ConditionEditor columns={s.columns} value={view.filter} onChange={(filter) => setView({ ...view, filter })} />
            <p className="mt-3 text-ink-2">{total === undefined ? "" : `${count(total, "row")} of ${f.rows.toLocaleString("en-GB")}`}</p>
          </Blank>
          , in the order of{" "}
          <Blank title="In the order of" words={orderWords || "entry"} label="Order">
            <OrderPicker sheet={s} sort={view.sort ?? []} onChange={(sort) => setView({ ...view, sort })} />
          </Blank>
          , holding{" "}
          <Blank title="Holding this text in any cell" words={view.find ? `“${view.find}”` : "anything"} label="Text">
            <input
              className="field w-60"
              aria-label="Text in any cell"
              defaultValue={view.find ?? ""}
              onChange={(e) => setView({ ...view, find: e.target.value.trim() || undefined })}
            />
          </Blank>
          {" · "}
          <ViewPicker
            sheet={s}
            view={view}
            current={search.view}
            onUse={(v) => void navigate({ to: "/sheets/$sheet", params: { sheet: id }, search: (v ? { view: v.id } : {}) as never })}
          />
          {" · "}
          {total === undefined ? "" : count(total, "row")}
        </span>
        <div className="ml-auto flex gap-4">
          {mayEdit && (
            <button type="button" className="link" onClick={add}>
              Add a row<kbd className="key">n</kbd>
            </button>
          )}
          {may && (
            <Link to="/sheets/$sheet/bring" params={{ sheet: id }} className="link">
              Bring rows in
            </Link>
          )}
          <button type="button" className="link" onClick={() => open({ slip: "out" })}>
            Take rows out
          </button>
          {may && (
            <button type="button" className="link" onClick={() => open({ slip: "columns" })}>
              Columns
            </button>
          )}
          <button type="button" className="link" onClick={() => open({ slip: "history" })}>
            History
          </button>
        </div>
      </div>
      {job && job.state === "running" && (
        <div className="flex-none border-t border-hair px-5 py-2">
          <JobLine job={job} what={job.kind === "columns" ? "Going through the rows:" : "Bringing rows in:"} />
        </div>
      )}
      <div className="relative flex min-h-0 flex-1 border-t border-hair">
        <Grid
          ref={grid}
          sheet={s}
          view={view}
          axis={axis}
          lit={lit}
          mayEdit={mayEdit}
          mayLocked={may}
          edits={edits}
          there={there}
          onMark={press}
          onRow={useCallback((row: string) => open({ row }), [open])}
          onCell={(row, column) => open({ cell: `${row}.${column}` })}
          onTotal={setTotal}
          onWords={setWords}
          onAt={useCallback(
            (row?: string, column?: string) => setAt((o) => (o.row === row && o.column === column ? o : { row, column })),
            [],
          )}
          onBox={setBox}
          head={{
            may,
            onOrder: (c, down, also) => setView({ ...view, sort: [...(also ? (view.sort ?? []) : []), { column: c.id, down }] }),
            onFilter: (c) => {
              const leaf = blankLeaf(c);
              setView({ ...view, filter: view.filter ? { all: [...(view.filter.all ?? [view.filter]), leaf] } : leaf });
              setFilterOpen(true);
            },
            onHide: (c) => void saveColumns((e, x) => (x.id === c.id ? { ...e, hidden: true } : e)),
            onFreeze: (n) => void freeze(n),
            onEdit: (c) => open({ slip: "columns", column: c.id }),
            onWidth: (c, width) => void saveColumns((e, x) => (x.id === c.id ? { ...e, width } : e)),
          }}
        />
        <Margin sheet={id} rules={rules.data ?? []} zone={zone} now={now} may={may} onLight={setLit} />
        {search.email && <DeliverySlip id={search.email} onClose={close} />}
        {search.row && !search.email && (
          <RowSlip sheet={s} row={search.row} onClose={close} onEmail={(email) => open({ email })} mayEdit={mayEdit} edits={edits} />
        )}
        {search.cell && (
          <CellSlip
            sheet={s}
            row={search.cell.split(".")[0] ?? ""}
            column={search.cell.split(".")[1] ?? ""}
            mayEdit={mayEdit}
            edits={edits}
            onClose={close}
          />
        )}
        {search.slip === "columns" && may && (
          <ColumnsSlip sheet={s} column={search.column} onClose={close} onJob={(j) => open({ job: j.id })} />
        )}
        {search.slip === "history" && <SheetHistory sheet={s} edits={edits} onRow={(row) => open({ row })} onClose={close} />}
        {search.slip === "out" && <TakeOut sheet={s} view={view} total={total} box={box} onClose={close} />}
        <Clashes edits={edits} />
      </div>
      <RunningJobs sheet={id} here={search.job} onFollow={(j) => open({ job: j })} />
    </div>
  );
}

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
    width: c.width,
    hidden: c.hidden,
    locked: c.locked,
    written: c.written,
  };
}

// Who else has the sheet open.
function Here({ there }: { there: Colleague[] }) {
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

// Work on the sheet that somebody began before: it is shown again on coming back.
function RunningJobs({ sheet, here, onFollow }: { sheet: string; here?: string; onFollow: (job: string) => void }) {
  const q = api.useQuery("get", "/sheets/{sheet}/jobs", { params: { path: { sheet } } });
  const other = q.data?.find((j) => j.id !== here);
  useEffect(() => {
    if (other && !here) onFollow(other.id);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- once for each
  }, [other?.id, here]);
  return null;
}

// The margin: the rules of the sheet, each a sentence.
function Margin({
  sheet,
  rules,
  zone,
  now,
  may,
  onLight,
}: {
  sheet: string;
  rules: Rule[];
  zone: string;
  now: Date;
  may: boolean;
  onLight: (r: string | null) => void;
}) {
  const [folded, setFolded] = useState(localStorage.getItem("margin") === "folded");
  const client = useQueryClient();
  const fold = () => {
    localStorage.setItem("margin", folded ? "" : "folded");
    setFolded(!folded);
  };
  const set = async (r: Rule) => {
    const state = r.state === "on" ? "paused" : "on";
    const { error } = await http.PUT("/sheets/{sheet}/rules/{rule}/state", { params: { path: { sheet, rule: r.id } }, body: { state } });
    if (error) toast.error(words(error));
    await client.invalidateQueries();
  };
  if (folded)
    return (
      <aside className="flex-none border-l border-hair px-2 py-3" aria-label="Rules on this sheet">
        <button type="button" className="link [writing-mode:vertical-rl]" onClick={fold}>
          Rules ({rules.length})
        </button>
      </aside>
    );
  return (
    <aside
      className="w-[298px] flex-none overflow-auto border-l border-hair px-[18px] py-3.5 max-md:hidden"
      aria-label="Rules on this sheet"
      tabIndex={0}
    >
      <div className="mb-2 flex">
        <h2 className="text-xs! text-ink-2">Rules on this sheet</h2>
        <button type="button" className="link ml-auto" onClick={fold}>
          fold
        </button>
      </div>
      {rules.map((r) => (
        // biome-ignore lint: pointing only lights what the link inside leads to
        <section
          key={r.id}
          className="border-t border-hair-2 pt-2.5 pb-3"
          onMouseEnter={() => onLight(r.id)}
          onMouseLeave={() => onLight(null)}
        >
          <div className="mb-1 flex items-center gap-2">
            <MarkIcon letter={r.letter} kind={r.state === "on" ? "accepted" : r.state === "paused" ? "held" : "incomplete"} />
            <Link to="/sheets/$sheet/rules/$rule" params={{ sheet, rule: r.id }} className="font-[650] hover:underline">
              {r.body.name}
            </Link>
            <span className="ml-auto text-xs text-ink-2">{r.state}</span>
            {may && r.state !== "draft" && (
              <button type="button" className="link text-xs" onClick={() => set(r)}>
                {r.state === "on" ? "pause" : "resume"}
              </button>
            )}
          </div>
          <p className={`mb-1.5 font-letter text-[13.5px] leading-5 ${r.state === "on" ? "" : "text-ink-2"}`}>
            {r.sentence.map((p, i) =>
              p.strong ? (
                <b key={i} className="font-semibold">
                  {p.text}
                </b>
              ) : (
                <span key={i}>{p.text}</span>
              ),
            )}
          </p>
          <p className="text-xs text-ink-2">
            {r.arming
              ? `Working out ${r.arming.done.toLocaleString("en-GB")} of ${count(r.arming.total, "row")}`
              : r.state === "on"
                ? r.nextAt
                  ? `Looks next ${moment(r.nextAt, zone, now)} at ${count(r.nextRows, "row")}`
                  : r.body.trigger.kind === "date"
                    ? "No row has a coming date"
                    : r.body.trigger.kind === "schedule"
                      ? "Its schedule has ended"
                      : r.body.trigger.kind === "by-hand"
                        ? "Sent by hand"
                        : "Waits for an edit"
                : r.state === "draft"
                  ? "Not switched on yet"
                  : "Paused; nothing goes out"}
          </p>
        </section>
      ))}
      {rules.length === 0 && (
        <p className="border-t border-hair-2 py-3 text-ink-2">
          No rule yet. A rule says when a row deserves an email, and to whom it goes.
        </p>
      )}
      {may && (
        <div className="border-t border-hair-2 pt-2.5">
          <Link to="/sheets/$sheet/rules/$rule" params={{ sheet, rule: "new" }} className="link">
            Add a rule
          </Link>
        </div>
      )}
    </aside>
  );
}
