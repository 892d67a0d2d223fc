import { useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { useCallback, useMemo, useRef, useState } from "react";
import { toast } from "sonner";
import { api, type Condition, http, type Mark, type Rule, words } from "../../api/client";
import { MarkIcon } from "../../parts/mark";
import { Blank, Choices } from "../../parts/picker";
import { useMay, useNow } from "../../parts/session";
import { useKey } from "../../parts/shortcuts";
import { makeAxis } from "../../parts/track";
import { clock, count, moment, numberWord, upperFirst } from "../../parts/time";
import { DeliverySlip } from "../log/delivery";
import { ConditionEditor } from "./condition";
import { Grid } from "./grid";
import { BringIn } from "./bringin";
import { RowSlip } from "./row";

export type View = { filter?: Condition; sort?: string; down?: boolean; find?: string };

export function SheetPlace() {
  const { sheet: id } = useParams({ strict: false }) as { sheet: string };
  const search = useSearch({ strict: false }) as { row?: string; email?: string };
  const navigate = useNavigate();
  const sheet = api.useQuery("get", "/sheets/{sheet}", { params: { path: { sheet: id } } });
  const rules = api.useQuery("get", "/sheets/{sheet}/rules", { params: { path: { sheet: id } } });
  const [view, setView] = useState<View>({});
  const [lit, setLit] = useState<string | null>(null);
  const [filterOpen, setFilterOpen] = useState(false);
  const [words1, setWords] = useState("");
  const [total, setTotal] = useState<number>();
  const [bringing, setBringing] = useState(false);
  const may = useMay("coordinator");
  const mayEdit = useMay("editor");
  const now = useNow(30000);
  const client = useQueryClient();
  const zone = sheet.data?.zone ?? "UTC";
  const minute = Math.floor(now.getTime() / 60000);
  const axis = useMemo(() => makeAxis(new Date(minute * 60000), zone), [minute, zone]);
  const grid = useRef<{ focusRow: (index: number) => void }>(null);
  const open = useCallback(
    (s: { row?: string; email?: string }) => void navigate({ to: "/sheets/$sheet", params: { sheet: id }, search: s as never }),
    [navigate, id],
  );
  useKey(
    "/",
    useCallback(() => setFilterOpen(true), []),
  );
  const add = useCallback(async () => {
    if (!mayEdit) return;
    const { error } = await http.POST("/sheets/{sheet}/rows", { params: { path: { sheet: id } }, body: { cells: {} } });
    if (error) return void toast.error(words(error));
    setView({});
    setWords("");
    await client.invalidateQueries();
    grid.current?.focusRow(-1);
  }, [id, client, mayEdit]);
  useKey("n", add, mayEdit);
  if (sheet.error)
    return (
      <p className="p-8">
        {words(sheet.error)}{" "}
        <Link to="/sheets" className="link">
          All sheets
        </Link>
      </p>
    );
  if (!sheet.data) return null;
  const s = sheet.data;
  const f = s.figures;
  const sortName = s.columns.find((c) => c.id === view.sort)?.name;
  const press = (m: Mark) => (m.delivery ? open({ email: m.delivery }) : m.row && open({ row: m.row }));
  return (
    <div className="relative flex min-h-0 flex-1 flex-col">
      <div className="flex-none px-5 pt-[18px] pb-2.5">
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
      </div>
      <div className="flex flex-none flex-wrap items-baseline gap-x-4 gap-y-1 px-5 pb-2 text-ink-2">
        <span>
          Showing{" "}
          <Blank
            title="Only rows where this holds"
            words={view.filter ? words1 || "…" : "all rows"}
            open={filterOpen}
            onOpenChange={setFilterOpen}
            label="Filter"
          >
            <ConditionEditor columns={s.columns} value={view.filter} onChange={(filter) => setView({ ...view, filter })} />
            <p className="mt-3 text-ink-2">{total === undefined ? "" : `${count(total, "row")} of ${f.rows.toLocaleString("en-GB")}`}</p>
          </Blank>
          , in the order of{" "}
          <Blank
            title="In the order of"
            words={sortName ? `${sortName.toLowerCase()}${view.down ? ", from the last" : ""}` : "entry"}
            label="Order"
          >
            <Choices
              name="order"
              value={view.sort ?? ""}
              onChoose={(c) => setView({ ...view, sort: c || undefined })}
              items={[{ id: "", name: "entry" }, ...s.columns.map((c) => ({ id: c.id, name: c.name }))]}
            />
            <label className="mt-2 flex items-center gap-2 border-t border-hair-2 pt-2">
              <input
                type="checkbox"
                className="accent-juniper"
                checked={view.down ?? false}
                disabled={!view.sort}
                onChange={(e) => setView({ ...view, down: e.target.checked })}
              />
              from the last
            </label>
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
          {total === undefined ? "" : count(total, "row")}
        </span>
        <div className="ml-auto flex gap-4">
          {mayEdit && (
            <button type="button" className="link" onClick={add}>
              Add a row<kbd className="key">n</kbd>
            </button>
          )}
          {may && (
            <button type="button" className="link" onClick={() => setBringing(true)}>
              Bring rows in
            </button>
          )}
        </div>
      </div>
      <div className="relative flex min-h-0 flex-1 border-t border-hair">
        <Grid
          ref={grid}
          sheet={s}
          view={view}
          axis={axis}
          lit={lit}
          mayEdit={mayEdit}
          onMark={press}
          onRow={(row) => open({ row })}
          onTotal={setTotal}
          onWords={setWords}
        />
        <Margin sheet={id} rules={rules.data ?? []} zone={zone} now={now} may={may} onLight={setLit} />
        {search.email && <DeliverySlip id={search.email} onClose={() => open({})} />}
        {search.row && !search.email && (
          <RowSlip sheet={s} row={search.row} onClose={() => open({})} onEmail={(email) => open({ email })} mayEdit={mayEdit} />
        )}
        {bringing && <BringIn sheet={s} onClose={() => setBringing(false)} />}
      </div>
    </div>
  );
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
