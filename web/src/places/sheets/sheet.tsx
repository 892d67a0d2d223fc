import { useQueryClient } from "@tanstack/react-query";
import { getRouteApi, Link } from "@tanstack/react-router";
import { type ReactNode, useCallback, useEffect, useMemo, useRef, useState } from "react";
import { toast } from "sonner";
import { api, type Column, http, type Mark, type Schemas, type Sheet } from "../../api/client";
import { keys, ofSheet, refresh } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { DropRows, handOver } from "../../parts/dropfile";
import { useNarrow } from "../../parts/narrow";
import { LookOnly } from "../../parts/name";
import { useMay, useNow } from "../../parts/session";
import { useKey } from "../../parts/shortcuts";
import { Slip } from "../../parts/slip";
import { count } from "../../parts/time";
import { makeAxis } from "../../parts/axis";
import type { SheetSearch } from "../../routes";
import { DeliverySlip } from "../log/delivery";
import { pick } from "../send/picked";
import { Clashes } from "./clash";
import { asEdit } from "./column";
import { ColumnsSlip } from "./columns";
import { blankLeaf } from "./condition";
import { type Edits, useEdits } from "./edits";
import { FilesSlip, hasFiles } from "./files";
import { type Box, Grid, type GridHandle } from "./grid";
import { CellSlip, SheetHistory } from "./history";
import { ImportedSlip, keepImported } from "./imported";
import { JobLine, useJob } from "./job";
import { Here, Looking, SheetTitle } from "./looking";
import { Margin, Rules } from "./margin";
import { usePresence } from "./presence";
import { RowSlip } from "./row";
import { RowList } from "./rowlist";
import { AskFirst } from "./sets";
import { SheetActs } from "./sheetacts";
import { TakeOut } from "./takeout";
import { isPlain, tidy, type View } from "./view";

const page = getRouteApi("/frame/sheets/$sheet");

export function SheetPlace(): ReactNode {
  const { sheet: id } = page.useParams();
  const sheet = api.useQuery("get", "/sheets/{sheet}", { params: { path: { sheet: id } } });
  const back = (
    <Link to="/sheets" className="link">
      All sheets
    </Link>
  );
  return (
    <Await query={sheet} back={back}>
      {(s) => <SheetPage key={id} sheet={s} />}
    </Await>
  );
}

function SheetPage({ sheet: s }: { sheet: Sheet }) {
  const id = s.id;
  const search = page.useSearch();
  const navigate = page.useNavigate();
  const rules = api.useQuery("get", "/sheets/{sheet}/rules", { params: { path: { sheet: id } } });
  const kept = api.useQuery(
    "get",
    "/sheets/{sheet}/views",
    { params: { path: { sheet: id } } },
    { enabled: search.view !== undefined },
  );
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
  const narrow = useNarrow();

  const open = useCallback(
    (x: Partial<SheetSearch>) =>
      void navigate({ search: (old: SheetSearch) => ({ view: old.view, show: old.show, ...x }) }),
    [navigate],
  );
  // A kept view by its id; what has been changed of it since stands in show.
  const keptView = kept.data?.find((v) => v.id === search.view)?.spec;
  const view = useMemo(() => search.show ?? keptView ?? {}, [search.show, keptView]);
  const setView = useCallback(
    (v: View) =>
      void navigate({
        search: (old: SheetSearch) => ({ ...old, show: isPlain(v) && !old.view ? undefined : tidy(v) }),
        replace: true,
      }),
    [navigate],
  );

  useKey(
    "/",
    useCallback(() => setFilterOpen(true), []),
  );
  const add = useCallback(() => {
    if (!mayEdit) return;
    grid.current?.awaitRow();
    edits.change("add", [{ op: "add", cells: {} }], (r) => {
      setView({});
      const row = r.added[0];
      if (row) grid.current?.awaitRow(row);
    });
  }, [mayEdit, edits, setView]);
  useKey("n", add, mayEdit);

  const ended = useRef("");
  const job = useJob(search.job, (j) => {
    const done = j.state === "done" ? j.import : undefined;
    if (ended.current !== j.id) {
      ended.current = j.id;
      if (done?.change) edits.remember(done.change);
      void refresh(client, ofSheet(id));
      if (done) keepImported(id, done);
      else tellJob(j);
    }
    // In its place, so that going back does not come to work that has ended.
    void navigate({
      search: (old: SheetSearch) => ({ view: old.view, show: old.show, slip: done && "imported" }),
      replace: true,
    });
  });

  // Columns are changed as a whole; one alone is put into their list.
  const columns = useWrite({
    write: (change: (c: Schemas["ColumnEdit"]) => Schemas["ColumnEdit"]) =>
      http.PUT("/sheets/{sheet}/columns", {
        params: { path: { sheet: id } },
        body: { seen: s.seen, columns: s.columns.map((c) => change(asEdit(c))) },
      }),
    changes: [keys.sheet],
  });
  const change = (c: Column, more: Partial<Schemas["ColumnEdit"]>) =>
    void columns.do((e) => (e.id === c.id ? { ...e, ...more } : e));
  const freeze = useWrite({
    write: (n: number) =>
      http.PATCH("/sheets/{sheet}", { params: { path: { sheet: id } }, body: { frozen: Math.min(5, n) } }),
    changes: [keys.sheet],
  });

  const openRow = useCallback((row: string) => open({ row }), [open]);
  const putAt = useCallback(
    (row?: string, column?: string) => setAt((o) => (o.row === row && o.column === column ? o : { row, column })),
    [],
  );
  const press = (m: Mark) => (m.delivery ? open({ email: m.delivery }) : m.row && open({ row: m.row, why: m.rule }));
  const bring = (file: File) => {
    handOver(file);
    void navigate({ to: "/sheets/$sheet/bring", params: { sheet: id } });
  };
  return (
    <DropRows onFile={may ? bring : undefined} words={`Drop the file to import its rows into ${s.name}`}>
      <div className="flex flex-none items-start gap-6 px-5 pt-[18px] pb-2.5">
        <SheetTitle sheet={s} now={now} />
        <Here there={there} />
      </div>
      <div className="flex flex-none flex-wrap items-baseline gap-x-4 gap-y-1 px-5 pb-2 text-ink-2">
        <Looking
          sheet={s}
          rules={rules.data ?? []}
          view={view}
          current={search.view}
          filterWords={filterWords}
          total={total}
          open={filterOpen}
          onOpen={setFilterOpen}
          onView={setView}
          onUse={(v) => void navigate({ search: v ? { view: v.id } : {} })}
        />
        <Tools
          sheet={s}
          rules={narrow ? (rules.data?.length ?? 0) : undefined}
          files={hasFiles(s)}
          may={may}
          mayEdit={mayEdit}
          onAdd={add}
          onSlip={(slip) => open({ slip })}
        />
      </div>
      {s.putAwayAt && <PutAway sheet={s} may={may} />}
      {job && job.state === "running" && (
        <div className="flex-none border-t border-hair px-5 py-2">
          <JobLine job={job} what={job.kind === "columns" ? "Going through the rows:" : "Importing:"} />
        </div>
      )}
      <div className="relative flex min-h-0 flex-1 border-t border-hair">
        {narrow ? (
          <RowList
            sheet={s}
            view={view}
            now={now}
            edits={edits}
            onRow={openRow}
            onTotal={setTotal}
            onWords={setWords}
          />
        ) : (
          <>
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
              onRow={openRow}
              onCell={(row, column) => open({ cell: `${row}.${column}` })}
              onTotal={setTotal}
              onWords={setWords}
              onAt={putAt}
              onBox={setBox}
              onSend={
                may
                  ? (rows) => {
                      pick(id, rows);
                      void navigate({ to: "/sheets/$sheet/send", params: { sheet: id } });
                    }
                  : undefined
              }
              head={{
                may,
                onOrder: (c, down, also) =>
                  setView({ ...view, sort: [...(also ? (view.sort ?? []) : []), { column: c.id, down }] }),
                onFilter: (c) => {
                  const leaf = blankLeaf(c);
                  setView({
                    ...view,
                    filter: view.filter ? { all: [...(view.filter.all ?? [view.filter]), leaf] } : leaf,
                  });
                  setFilterOpen(true);
                },
                onHide: (c) => change(c, { hidden: true }),
                onFreeze: (n) => void freeze.do(n),
                onEdit: (c) => open({ slip: "columns", column: c.id }),
                onRule: (c, when) =>
                  void navigate({
                    to: "/sheets/$sheet/rules/$rule",
                    params: { sheet: id, rule: "new" },
                    search: { when, column: c.id },
                  }),
                onWidth: (c, width) => change(c, { width }),
              }}
            />
            <Margin sheet={id} rules={rules.data ?? []} zone={zone} now={now} may={may} onLight={setLit} />
          </>
        )}
        {narrow && search.slip === "rules" && (
          <Slip
            title="Rules on this sheet"
            onClose={() => open({})}
            head={<b className="text-ink">Rules of {s.name}</b>}
          >
            <Rules sheet={id} rules={rules.data ?? []} zone={zone} now={now} may={may} onLight={setLit} />
          </Slip>
        )}
        <Slips
          sheet={s}
          search={search}
          view={view}
          total={total}
          box={box}
          edits={edits}
          may={may}
          mayEdit={mayEdit}
          open={open}
          onView={(v) => void navigate({ search: { show: tidy(v) } })}
        />
        <Clashes edits={edits} />
        {edits.asking && (
          <AskFirst sheet={s} what={askedWords(edits.asking)} sets={edits.asking.sets} onAnswer={edits.settle} />
        )}
      </div>
      <RunningJobs sheet={id} here={search.job} onFollow={(j) => open({ job: j })} />
    </DropRows>
  );
}

// A sheet that is out of use says so.
function PutAway({ sheet, may }: { sheet: Sheet; may: boolean }) {
  const back = useWrite({
    write: () => http.POST("/sheets/{sheet}/restore", { params: { path: { sheet: sheet.id } } }),
    changes: [...ofSheet(sheet.id), keys.awaySheets],
    saved: "It is in use again. Its rules are paused.",
  });
  return (
    <p role="status" className="flex-none border-t border-hair px-5 py-2 text-marigold">
      This sheet is put away: nothing goes out for it.{" "}
      {may && (
        <button type="button" className="link ml-2" disabled={back.busy} onClick={() => void back.do()}>
          Use it again
        </button>
      )}
    </p>
  );
}

type ToolsProps = {
  sheet: Sheet;
  rules?: number; // where they are one tap away
  files: boolean; // it has a column of them
  may: boolean;
  mayEdit: boolean;
  onAdd: () => void;
  onSlip: (slip: NonNullable<SheetSearch["slip"]>) => void;
};

function Tools({ sheet, rules, files, may, mayEdit, onAdd, onSlip }: ToolsProps) {
  return (
    <div className="ml-auto flex flex-wrap gap-x-4 gap-y-1 max-[899px]:ml-0">
      {rules !== undefined && (
        <button type="button" className="link" onClick={() => onSlip("rules")}>
          {count(rules, "rule")}
        </button>
      )}
      {!mayEdit && <LookOnly what="sheet" />}
      {mayEdit && (
        <button type="button" className="link" onClick={onAdd}>
          Add a row
          <kbd className="key" aria-hidden>
            n
          </kbd>
        </button>
      )}
      {may && (
        <Link to="/sheets/$sheet/bring" params={{ sheet: sheet.id }} className="link">
          Import
        </Link>
      )}
      <button type="button" className="link" onClick={() => onSlip("out")}>
        Export
      </button>
      {files && (
        <button type="button" className="link" onClick={() => onSlip("files")}>
          Files
        </button>
      )}
      {may && (
        <button type="button" className="link" onClick={() => onSlip("columns")}>
          Columns
        </button>
      )}
      <button type="button" className="link" onClick={() => onSlip("history")}>
        History
      </button>
      {may && <SheetActs sheet={sheet} words="Sheet …" />}
    </div>
  );
}

type SlipsProps = {
  sheet: Sheet;
  search: SheetSearch;
  view: View;
  total?: number;
  box: Box | null;
  edits: Edits;
  may: boolean;
  mayEdit: boolean;
  open: (x: Partial<SheetSearch>) => void;
  onView: (v: View) => void;
};

// The slip that the address names.
function Slips({ sheet: s, search, view, total, box, edits, may, mayEdit, open, onView }: SlipsProps) {
  const close = () => open({});
  return (
    <>
      {search.email && <DeliverySlip id={search.email} onClose={close} />}
      {search.row && !search.email && (
        <RowSlip
          sheet={s}
          row={search.row}
          key={`${search.row} ${search.why ?? ""} ${search.fix ?? ""}`}
          why={search.why}
          fix={search.fix}
          onClose={close}
          onRow={(row) => open({ row })}
          onEmail={(email) => open({ email })}
          mayEdit={mayEdit}
          mayLocked={may}
          edits={edits}
        />
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
      {search.slip === "files" && (
        <FilesSlip sheet={s} mayEdit={mayEdit} onRow={(row) => open({ row })} onClose={close} />
      )}
      {search.slip === "history" && (
        <SheetHistory sheet={s} edits={edits} onRow={(row) => open({ row })} onClose={close} />
      )}
      {search.slip === "imported" && (
        <ImportedSlip sheet={s} may={may} edits={edits} onView={onView} onClose={close} />
      )}
      {search.slip === "out" && <TakeOut sheet={s} view={view} total={total} box={box} onClose={close} />}
    </>
  );
}

function askedWords({ kind, steps }: { kind: string; steps: Schemas["Step"][] }): string {
  const rows = count(steps.length, "row");
  return (
    {
      delete: `Deleting ${rows}`,
      clear: `Clearing cells of ${rows}`,
      cut: `Cutting from ${rows}`,
      fill: `Filling ${rows}`,
    }[kind] ?? `Changing ${rows}`
  );
}

function tellJob(j: Schemas["Job"]) {
  if (j.state === "done") {
    toast.success("The columns are changed.", { duration: 8000 });
  } else
    toast.error(
      j.state === "stopped" ? "Stopped. Nothing was changed." : (j.problem ?? "It failed; nothing was changed."),
      {
        duration: 12000,
      },
    );
}

// Work on the sheet that somebody began before: it is shown again on coming back.
function RunningJobs({ sheet, here, onFollow }: { sheet: string; here?: string; onFollow: (job: string) => void }) {
  const q = api.useQuery("get", "/sheets/{sheet}/jobs", { params: { path: { sheet } } });
  // The list may be older than the end of what has been followed, which is not to be followed again.
  const followed = useRef(new Set<string>());
  useEffect(() => {
    if (here) {
      followed.current.add(here);
      return;
    }
    const other = q.data?.find((j) => !followed.current.has(j.id));
    if (other) onFollow(other.id);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- once for each
  }, [q.data, here]);
  return null;
}
