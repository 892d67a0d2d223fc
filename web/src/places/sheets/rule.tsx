import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { useEffect, useMemo, useState } from "react";
import { toast } from "sonner";
import { api, type Column, http, type Rule, type RuleBody, type Schemas, type Sheet, words } from "../../api/client";
import { Blank, Choices } from "../../parts/picker";
import { useMay, useNow } from "../../parts/session";
import { count, day, isoDay, midnight, moment } from "../../parts/time";
import { ConditionEditor } from "./condition";

type Offset = NonNullable<RuleBody["trigger"]["offsets"]>[number];
type Effect = Schemas["Effect"];

export function RulePlace() {
  const p = useParams({ strict: false }) as { sheet: string; rule: string };
  const isNew = p.rule === "new";
  const sheet = api.useQuery("get", "/sheets/{sheet}", { params: { path: { sheet: p.sheet } } });
  const rule = api.useQuery("get", "/sheets/{sheet}/rules/{rule}", { params: { path: p } }, { enabled: !isNew });
  const templates = api.useQuery("get", "/templates");
  if (rule.error)
    return (
      <p className="p-8">
        {words(rule.error)}{" "}
        <Link to="/sheets/$sheet" params={{ sheet: p.sheet }} className="link">
          Back to the sheet
        </Link>
      </p>
    );
  if (!sheet.data || !templates.data || (!isNew && !rule.data)) return null;
  return <RuleEditor key={p.rule} sheet={sheet.data} rule={rule.data} templates={templates.data.filter((t) => t.sheet === p.sheet)} />;
}

function blankRule(sheet: Sheet, templates: Schemas["Template"][]): RuleBody {
  const date = sheet.columns.find((c) => c.type === "date") ?? sheet.columns.find((c) => c.type === "moment");
  return {
    name: "",
    trigger: { kind: "date", column: date?.id ?? "", offsets: [{ n: -7, unit: "days" }], at: "09:00" },
    send: [{ template: templates[0]?.id ?? "" }],
    to: sheet.address ? [{ column: sheet.address }] : [],
  };
}

function RuleEditor({ sheet, rule, templates }: { sheet: Sheet; rule?: Rule; templates: Schemas["Template"][] }) {
  const [body, setBody] = useState<RuleBody>(() => (rule ? structuredClone(rule.body) : blankRule(sheet, templates)));
  const [settled, setSettled] = useState(body);
  const [error, setError] = useState<Schemas["Problem"] | null>(null);
  const [busy, setBusy] = useState(false);
  const may = useMay("coordinator");
  const now = useNow(30000);
  const navigate = useNavigate();
  const client = useQueryClient();
  useEffect(() => {
    const t = window.setTimeout(() => setSettled(body), 250);
    return () => window.clearTimeout(t);
  }, [body]);
  const effect = useQuery({
    queryKey: ["effect", sheet.id, settled],
    placeholderData: (old: Effect | undefined) => old,
    meta: { still: true },
    queryFn: async () => {
      const { data, error } = await http.POST("/sheets/{sheet}/rules/effect", {
        params: { path: { sheet: sheet.id } },
        body: { body: settled },
      });
      if (error) throw error;
      return data;
    },
  });
  const e = effect.data;
  const changed = JSON.stringify(body) !== JSON.stringify(rule?.body ?? null);
  const state = rule?.state ?? "draft";
  const put = (more: Partial<RuleBody>) => setBody((b) => ({ ...b, ...more }));
  const trigger = (more: Partial<RuleBody["trigger"]>) => setBody((b) => ({ ...b, trigger: { ...b.trigger, ...more } }));

  const save = async (): Promise<Rule | null> => {
    setError(null);
    const path = { sheet: sheet.id, rule: rule?.id ?? "" };
    const { data, error } = rule
      ? await http.PUT("/sheets/{sheet}/rules/{rule}", { params: { path }, body: { body, version: rule.version } })
      : await http.POST("/sheets/{sheet}/rules", { params: { path: { sheet: sheet.id } }, body: { body } });
    if (error) {
      setError(error);
      return null;
    }
    return data;
  };
  const after = async (r: Rule) => {
    await client.invalidateQueries();
    void navigate({ to: "/sheets/$sheet/rules/$rule", params: { sheet: sheet.id, rule: r.id }, replace: true });
  };
  const act = async (f: () => Promise<void>) => {
    setBusy(true);
    try {
      await f();
    } finally {
      setBusy(false);
    }
  };
  const saveOnly = () =>
    act(async () => {
      const r = await save();
      if (r) {
        toast.success(state === "on" ? "Saved. What was past by now stays as it is." : "Saved.");
        await after(r);
      }
    });
  const setState = (to: "on" | "paused") =>
    act(async () => {
      const r = to === "on" && (changed || !rule) ? await save() : rule;
      if (!r) return;
      const { data, error } = await http.PUT("/sheets/{sheet}/rules/{rule}/state", {
        params: { path: { sheet: sheet.id, rule: r.id } },
        body: { state: to },
      });
      if (error) setError(error);
      else await after(data);
    });
  const remove = () =>
    act(async () => {
      if (!rule) return;
      const { error } = await http.DELETE("/sheets/{sheet}/rules/{rule}", { params: { path: { sheet: sheet.id, rule: rule.id } } });
      if (error) return setError(error);
      await client.invalidateQueries();
      void navigate({ to: "/sheets/$sheet", params: { sheet: sheet.id } });
    });

  const ph = e?.phrases;
  const dates = sheet.columns.filter((c) => c.type === "date" || c.type === "moment");
  const emails = sheet.columns.filter((c) => c.type === "email");
  const anchor = sheet.columns.find((c) => c.id === body.trigger.column);
  const offsets = body.trigger.offsets ?? [];
  const dated = body.trigger.kind === "date"; // the others are shown, and changed through the API or a bundle
  const reacts = !dated && body.trigger.kind !== "schedule";
  const live = !!e && !e.problem;
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <div className="px-5 pt-[18px] pb-3.5">
        <h1>
          {may ? (
            <input
              aria-label="Name of the rule"
              className="min-w-32 border-b border-dotted border-juniper bg-transparent font-semibold outline-offset-4 [field-sizing:content]"
              placeholder="Name the rule"
              value={body.name}
              onChange={(ev) => put({ name: ev.target.value })}
            />
          ) : (
            <b>{body.name}</b>
          )}
          {rule ? <>, rule {rule.letter} of </> : <>, a new rule of </>}
          <Link to="/sheets/$sheet" params={{ sheet: sheet.id }} className="figure">
            {sheet.name}
          </Link>
          , {state === "on" ? "is on" : state === "paused" ? "is paused" : "is not on yet"}.{" "}
          {live && reacts && (body.trigger.kind === "by-hand" ? "It is sent by hand." : "It answers edits as they settle.")}
          {live && !reacts && (
            <>
              {state === "on" && !changed ? "Writes" : "Would write"} <span className="figure">{count(e.emails, "email")}</span> in the next
              60 days
              {e.incomplete > 0 && (
                <>
                  ; <span className="text-brick">{e.incomplete} of them cannot go out yet</span>
                </>
              )}
              .
            </>
          )}
        </h1>
      </div>
      <div className="flex min-h-0 flex-1 border-t border-hair max-lg:flex-col max-lg:overflow-auto">
        <div className="flex w-[560px] flex-none flex-col overflow-auto border-r border-hair px-5 pt-6 pb-4 max-lg:w-full">
          {!dated ? (
            <p className="mb-3 font-letter text-[19px] leading-[34px]">
              {rule?.sentence.map((x, i) => (x.strong ? <b key={i}>{x.text}</b> : <span key={i}>{x.text}</span>))}
            </p>
          ) : dates.length === 0 ? (
            <p>This sheet has no column of dates, so no date rule can hang on it.</p>
          ) : (
            <p className="mb-3 font-letter text-[19px] leading-[34px]">
              <Blank disabled={!may} title="When" label="When" words={ph?.when || "…"}>
                <When
                  offsets={offsets}
                  hours={anchor?.type === "moment" && !body.trigger.at}
                  onChange={(offsets) => trigger({ offsets })}
                />
              </Blank>{" "}
              <Blank disabled={!may} title="Before or after which date" label="Date" words={ph?.column || "…"}>
                <Choices
                  name="column"
                  value={body.trigger.column ?? ""}
                  onChoose={(column) =>
                    trigger({
                      column,
                      at: sheet.columns.find((c) => c.id === column)?.type === "moment" ? undefined : (body.trigger.at ?? "09:00"),
                    })
                  }
                  items={dates.map((c) => ({ id: c.id, name: c.name, note: c.type }))}
                />
              </Blank>
              {body.trigger.every && (
                <>
                  ,{" "}
                  <Blank disabled={!may} title="How often the date comes round" label="Every" words={ph?.every || "…"}>
                    <Every value={body.trigger.every} onChange={(every) => trigger({ every })} />
                  </Blank>
                  ,
                </>
              )}{" "}
              at{" "}
              <Blank disabled={!may} title="Time of day" label="Time" words={ph?.at || "…"}>
                <At
                  value={body.trigger.at}
                  moment={anchor?.type === "moment"}
                  onChange={(at) =>
                    trigger({
                      at,
                      offsets: at
                        ? offsets
                            .filter((o) => o.unit === "days" || o.unit === "working-days")
                            .concat(offsets.some((o) => o.unit === "days" || o.unit === "working-days") ? [] : [{ n: -1, unit: "days" }])
                        : offsets,
                    })
                  }
                />
              </Blank>
              {body.zone && (
                <>
                  {" "}
                  in{" "}
                  <Blank disabled={!may} title="Zone of the rule" label="Zone" words={body.zone}>
                    <Zone value={body.zone} sheetZone={sheet.zone} onChange={(zone) => put({ zone })} />
                  </Blank>
                </>
              )}
              , for{" "}
              <Blank
                disabled={!may}
                title="Only rows where"
                label="Condition"
                words={ph?.condition ? `rows where ${ph.condition}` : "all rows"}
              >
                <ConditionEditor columns={sheet.columns} value={body.condition} onChange={(condition) => put({ condition })} />
                {live && (
                  <p className="mt-3 text-right text-ink-2">
                    {e.rows.toLocaleString("en-GB")} of {count(e.total, "row")}
                  </p>
                )}
              </Blank>
              , write{" "}
              <Blank
                disabled={!may}
                title="Which template"
                label="Template"
                words={templates.find((t) => t.id === body.send[0]?.template)?.name ?? "…"}
              >
                {templates.length > 0 && (
                  <Choices
                    name="template"
                    value={body.send[0]?.template}
                    onChoose={(template) => put({ send: [{ template }] })}
                    items={templates.map((t) => ({ id: t.id, name: t.name }))}
                  />
                )}
                <Link to="/templates/$sheet/$template" params={{ sheet: sheet.id, template: "new" }} className="link mt-2 block">
                  Write a new one
                </Link>
              </Blank>{" "}
              to{" "}
              <Blank disabled={!may} title="To" label="To" words={ph?.to || "…"}>
                <Addresses columns={emails} value={body.to} onChange={(to) => put({ to })} />
              </Blank>
              {body.cc && (
                <>
                  , copy to{" "}
                  <Blank disabled={!may} title="Copy to" label="Copy" words={ph?.cc || "…"}>
                    <Addresses columns={emails} value={body.cc} onChange={(cc) => put({ cc })} gone={() => put({ cc: undefined })} />
                  </Blank>
                </>
              )}
              {body.replyTo && (
                <>
                  , answers to{" "}
                  <Blank disabled={!may} title="Answers go to" label="Answers" words={ph?.replyTo || "…"}>
                    <Addresses
                      columns={emails}
                      value={body.replyTo}
                      onChange={(replyTo) => put({ replyTo })}
                      gone={() => put({ replyTo: undefined })}
                    />
                  </Blank>
                </>
              )}
              . Not later than{" "}
              <Blank
                disabled={!may}
                title="An email that could not go on time may still go for"
                label="Late limit"
                words={ph?.late || "a day"}
              >
                <Choices
                  name="late"
                  value={body.late ?? "PT24H"}
                  onChoose={(late) => put({ late: late === "PT24H" ? undefined : late })}
                  items={[
                    { id: "PT1H", name: "an hour" },
                    { id: "PT4H", name: "4 hours" },
                    { id: "PT24H", name: "a day" },
                    { id: "P3D", name: "3 days" },
                    { id: "P1W", name: "a week" },
                  ]}
                />
              </Blank>
              .
            </p>
          )}
          {may && dated && (
            <div className="flex flex-wrap gap-x-4 gap-y-1.5 border-t border-hair-2 pt-3 text-ink-2">
              {!body.cc && (
                <button type="button" className="border-b border-dotted border-ink-2" onClick={() => put({ cc: [] })}>
                  with a copy to …
                </button>
              )}
              {!body.replyTo && (
                <button type="button" className="border-b border-dotted border-ink-2" onClick={() => put({ replyTo: [] })}>
                  answers to …
                </button>
              )}
              {!body.trigger.every && (
                <button
                  type="button"
                  className="border-b border-dotted border-ink-2"
                  onClick={() => trigger({ every: { unit: "years", n: 1 } })}
                >
                  every year …
                </button>
              )}
              {!body.zone && (
                <button type="button" className="border-b border-dotted border-ink-2" onClick={() => put({ zone: sheet.zone })}>
                  in another zone …
                </button>
              )}
            </div>
          )}
          <div className="mt-auto pt-6">
            <p role="alert" className="min-h-5 text-brick">
              {error?.title}
            </p>
            {e?.problem && <p className="text-marigold">{e.problem.message.charAt(0).toUpperCase() + e.problem.message.slice(1)}.</p>}
            {may && (
              <div className="mt-2 flex flex-wrap items-center gap-3">
                {state !== "on" && (
                  <button type="button" className="act" disabled={busy || !live || !body.name.trim()} onClick={() => setState("on")}>
                    {state === "paused" ? "Resume" : "Switch on"}
                    {live && !reacts && `: ${count(e.emails, "email")} in 60 days`}
                  </button>
                )}
                <button
                  type="button"
                  className={state === "on" ? "act" : "act-plain"}
                  disabled={busy || !changed || !body.name.trim()}
                  onClick={saveOnly}
                >
                  Save
                </button>
                {state === "on" && (
                  <button type="button" className="act-plain" disabled={busy} onClick={() => setState("paused")}>
                    Pause
                  </button>
                )}
                {live && state !== "on" && (
                  <span className="text-ink-2">
                    {e.past > 0
                      ? `${count(e.past, "past date stays", "past dates stay")} as ${e.past === 1 ? "it is" : "they are"}.`
                      : "No date is past."}
                  </span>
                )}
                {live && state === "on" && changed && (
                  <span className="text-ink-2">Saving begins anew from now; what went out does not go again.</span>
                )}
                {rule && state !== "on" && (
                  <button type="button" className="link ml-auto text-brick!" onClick={remove} disabled={busy}>
                    Take this rule away
                  </button>
                )}
              </div>
            )}
          </div>
        </div>
        <div className="min-w-0 flex-1 overflow-auto bg-sheet px-6.5 pt-5.5 pb-6" tabIndex={0} role="region" aria-label="Effect">
          {e && live ? (
            <EffectView e={e} sheet={sheet} now={now} zone={body.zone ?? sheet.zone} />
          ) : (
            <p className="text-ink-2">Once the sentence is whole, its effect stands here: how many rows, when, and the first emails.</p>
          )}
          {live && <TryRow sheet={sheet} body={settled} first={e?.first[0]?.rowId} />}
        </div>
      </div>
    </div>
  );
}

function EffectView({ e, sheet, now, zone }: { e: Effect; sheet: Sheet; now: Date; zone: string }) {
  return (
    <>
      <h2 className="mb-1.5 flex flex-wrap items-baseline gap-2.5">
        The coming 60 days{" "}
        <small className="text-xs font-[450] text-ink-2">
          each bar a day; {e.rows.toLocaleString("en-GB")} of {count(e.total, "row")} match now
          {e.skipped > 0 && `; ${count(e.skipped, "date")} would be skipped as the rows are now`}
          {e.partial && "; of the first 100,000 rows"}
        </small>
      </h2>
      <Bars days={e.days} now={now} zone={zone} />
      <h2 className="mt-3.5 mb-1">The first of them</h2>
      {e.first.length === 0 ? (
        <p className="text-ink-2">None in 60 days.</p>
      ) : (
        <table className="tbl">
          <thead>
            <tr>
              <th>When</th>
              <th>Row</th>
              <th>To</th>
              <th>Subject</th>
            </tr>
          </thead>
          <tbody>
            {e.first.map((l, i) => (
              <tr key={i}>
                <td className="whitespace-nowrap">{moment(l.at, zone, now)}</td>
                <td className="whitespace-nowrap">
                  <Link to="/sheets/$sheet" params={{ sheet: sheet.id }} search={{ row: l.rowId } as never} className="hover:underline">
                    {l.row}
                  </Link>
                </td>
                <td className="max-w-56 truncate" title={l.to}>
                  {l.to || <span className="bad">no address</span>}
                </td>
                <td className="w-full max-w-0 truncate" title={l.subject || l.reason}>
                  {l.outcome === "incomplete" ? <span className="text-brick">{l.reason}</span> : l.subject}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

function Bars({ days, now, zone }: { days: number[]; now: Date; zone: string }) {
  const w = 640;
  const start = midnight(now, zone).getTime();
  const top = Math.max(4, ...days);
  const x = (d: number) => 8 + (d * (w - 16)) / days.length;
  const date = (d: number) => new Date(start + d * day + day / 2);
  return (
    <svg
      viewBox={`0 0 ${w} 96`}
      className="block w-full max-w-3xl"
      role="img"
      aria-label={`${days.reduce((a, b) => a + b, 0)} emails in the coming 60 days`}
    >
      {days.map(
        (_, d) =>
          date(d).getUTCDay() === 6 && (
            <rect key={d} x={x(d)} y={0} width={Math.min(x(d + 2), w - 8) - x(d)} height={76} fill="var(--weekend)" />
          ),
      )}
      {days.map(
        (n, d) =>
          n > 0 && (
            <rect key={d} x={x(d) + 2} y={70.5 - (n * 66) / top} width={6.6} height={(n * 66) / top} fill="var(--marigold-fill)">
              <title>{`${isoDay(date(d), zone)}: ${count(n, "email")}`}</title>
            </rect>
          ),
      )}
      <line x1={8} x2={w - 8} y1={70.5} y2={70.5} stroke="var(--hair)" />
      <line
        x1={x((now.getTime() - start) / day)}
        x2={x((now.getTime() - start) / day)}
        y1={0}
        y2={76}
        stroke="var(--ink)"
        strokeWidth={1.2}
      />
      <text x={x(0)} y={90} fontSize={11} fontWeight={700} fill="var(--ink)">
        now
      </text>
      {days.map(
        (_, d) =>
          d > 3 &&
          date(d).getUTCDay() === 1 && (
            <text key={d} x={x(d) + 5} y={90} textAnchor="middle" fontSize={11} fill="var(--ink-2)">
              {date(d).getUTCDate() <= 7
                ? `${date(d).getUTCDate()} ${date(d).toLocaleString("en-GB", { month: "short", timeZone: "UTC" }).slice(0, 3)}`
                : date(d).getUTCDate()}
            </text>
          ),
      )}
    </svg>
  );
}

function TryRow({ sheet, body, first }: { sheet: Sheet; body: RuleBody; first?: string }) {
  const [row, setRow] = useState<string>();
  const [find, setFind] = useState("");
  const [open, setOpen] = useState(false);
  const rows = useQuery({
    queryKey: ["try", sheet.id, find],
    enabled: open || (!row && !first),
    meta: { still: true },
    queryFn: async () =>
      (
        await http.POST("/sheets/{sheet}/rows/query", {
          params: { path: { sheet: sheet.id } },
          body: { find: find || undefined, offset: 0, limit: 30 },
        })
      ).data?.rows ?? [],
  });
  const id = row ?? first ?? rows.data?.[0]?.id;
  const why = useQuery({
    queryKey: ["explain", sheet.id, body, id],
    enabled: !!id,
    queryFn: async () => {
      const { data, error } = await http.POST("/sheets/{sheet}/rules/explain", {
        params: { path: { sheet: sheet.id } },
        body: { body, row: id ?? "" },
      });
      if (error) throw error;
      return data;
    },
  });
  const key = useMemo(() => sheet.columns.findIndex((c) => c.id === sheet.key), [sheet]);
  const second = (r: Schemas["Row"]) => r.cells.find((c, i) => i !== key && c.text)?.text ?? "";
  return (
    <section className="mt-5">
      <h2 className="mb-1.5">
        Try a row{" "}
        <span className="ml-2 font-normal">
          <Blank title="Which row" label="Row" words={why.data?.row ?? "choose one"} open={open} onOpenChange={setOpen}>
            <input
              className="field mb-2 w-64"
              aria-label="Find a row"
              placeholder="find a row"
              value={find}
              onChange={(e) => setFind(e.target.value)}
            />
            <Choices
              name="row"
              value={id}
              onChoose={(r) => {
                setRow(r);
                setOpen(false);
              }}
              items={(rows.data ?? []).map((r) => ({ id: r.id, name: r.name, note: second(r).slice(0, 30) }))}
            />
          </Blank>
        </span>
      </h2>
      {why.data && (
        <>
          <ul className="flex flex-col gap-1">
            {why.data.clauses.map((c, i) => (
              <li key={i} className="grid grid-cols-[56px_1fr_auto] gap-2.5">
                <span className={c.holds === "yes" ? "text-juniper" : c.holds === "no" ? "text-brick" : "text-plum"}>{c.holds}</span>
                <span>{c.text}</span>
                <span className="text-ink-2">{c.note}</span>
              </li>
            ))}
          </ul>
          <p className="mt-2.5 font-letter text-sm leading-[22px]">{why.data.summary}</p>
        </>
      )}
    </section>
  );
}

function When({ offsets, hours, onChange }: { offsets: Offset[]; hours: boolean; onChange: (o: Offset[]) => void }) {
  const put = (i: number, o: Partial<Offset>) => onChange(offsets.map((x, k) => (k === i ? { ...x, ...o } : x)));
  return (
    <div className="flex flex-col gap-2">
      {offsets.map((o, i) => {
        const side = o.n < 0 ? "before" : o.n > 0 ? "after" : "on";
        return (
          <div key={i} className="flex items-center gap-2">
            {side !== "on" && (
              <input
                type="number"
                min={1}
                max={20000}
                aria-label="How many"
                className="field w-18 text-right"
                value={Math.abs(o.n)}
                onChange={(e) => put(i, { n: Math.max(1, Math.floor(Number(e.target.value) || 1)) * Math.sign(o.n) })}
              />
            )}
            {side !== "on" && (
              <select
                aria-label="Unit"
                className="field"
                value={o.unit}
                onChange={(e) => put(i, { unit: e.target.value as Offset["unit"] })}
              >
                <option value="days">days</option>
                <option value="working-days">working days</option>
                {hours && (
                  <>
                    <option value="hours">hours</option>
                    <option value="minutes">minutes</option>
                  </>
                )}
              </select>
            )}
            <select
              aria-label="Before or after"
              className="field"
              value={side}
              onChange={(e) =>
                put(
                  i,
                  e.target.value === "on" ? { n: 0, unit: "days" } : { n: (Math.abs(o.n) || 1) * (e.target.value === "before" ? -1 : 1) },
                )
              }
            >
              <option value="before">before</option>
              <option value="on">on the day</option>
              <option value="after">after</option>
            </select>
            {offsets.length > 1 && (
              <button type="button" className="link" onClick={() => onChange(offsets.filter((_, k) => k !== i))}>
                take out
              </button>
            )}
          </div>
        );
      })}
      <button type="button" className="link self-start" onClick={() => onChange([...offsets, next(offsets)])}>
        and also …
      </button>
    </div>
  );
}
// The next offset that is not there yet.
function next(offsets: Offset[]): Offset {
  for (const n of [-1, -3, -14, -30, 0, 3, 7, 10]) if (!offsets.some((o) => o.n === n && o.unit === "days")) return { n, unit: "days" };
  return { n: Math.min(...offsets.map((o) => o.n)) - 1, unit: "days" };
}

function At({ value, moment, onChange }: { value?: string; moment: boolean; onChange: (at: string | undefined) => void }) {
  return (
    <div className="flex flex-col gap-2">
      <input
        type="time"
        className="field"
        aria-label="Time of day"
        value={value ?? ""}
        onChange={(e) => onChange(e.target.value || (moment ? undefined : "09:00"))}
      />
      {moment && (
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            className="accent-juniper"
            checked={!value}
            onChange={(e) => onChange(e.target.checked ? undefined : "09:00")}
          />
          at the moment’s own time
        </label>
      )}
    </div>
  );
}

type EveryValue = NonNullable<RuleBody["trigger"]["every"]>;
function Every({ value, onChange }: { value: EveryValue; onChange: (e: EveryValue | null) => void }) {
  return (
    <div className="flex items-center gap-2">
      every{" "}
      <input
        type="number"
        min={1}
        className="field w-16 text-right"
        aria-label="How many"
        value={value.n}
        onChange={(e) => onChange({ ...value, n: Math.max(1, Math.floor(Number(e.target.value) || 1)) })}
      />
      <select
        className="field"
        aria-label="Unit"
        value={value.unit}
        onChange={(e) => onChange({ ...value, unit: e.target.value as EveryValue["unit"] })}
      >
        {["days", "weeks", "months", "years"].map((u) => (
          <option key={u}>{u}</option>
        ))}
      </select>
      <button type="button" className="link" onClick={() => onChange(null)}>
        only once
      </button>
    </div>
  );
}

function Zone({ value, sheetZone, onChange }: { value: string; sheetZone: string; onChange: (z: string | undefined) => void }) {
  return (
    <div className="flex flex-col gap-2">
      <input
        className="field w-56"
        list="rule-zones"
        aria-label="Zone"
        defaultValue={value}
        onBlur={(e) => onChange(e.target.value || undefined)}
      />
      <datalist id="rule-zones">
        {Intl.supportedValuesOf("timeZone").map((z) => (
          <option key={z} value={z} />
        ))}
      </datalist>
      <button type="button" className="link self-start" onClick={() => onChange(undefined)}>
        the sheet’s, {sheetZone}
      </button>
    </div>
  );
}

type Source = RuleBody["to"][number];
function Addresses({
  columns,
  value,
  onChange,
  gone,
}: {
  columns: Column[];
  value: Source[];
  onChange: (v: Source[]) => void;
  gone?: () => void;
}) {
  const fixed = value
    .filter((v) => v.address)
    .map((v) => v.address)
    .join(", ");
  return (
    <div className="flex flex-col gap-1.5">
      {columns.map((c) => (
        <label key={c.id} className="flex items-center gap-2">
          <input
            type="checkbox"
            className="accent-juniper"
            checked={value.some((v) => v.column === c.id)}
            onChange={(e) => onChange(e.target.checked ? [...value, { column: c.id }] : value.filter((v) => v.column !== c.id))}
          />
          {c.name}
        </label>
      ))}
      <label className="mt-1 flex flex-col gap-1 border-t border-hair-2 pt-2">
        Always to
        <input
          className="field w-64"
          placeholder="name@place.example"
          defaultValue={fixed}
          onBlur={(e) => {
            const t = e.target.value.trim();
            onChange([...value.filter((v) => !v.address), ...(t ? [{ address: t }] : [])]);
          }}
        />
      </label>
      {gone && (
        <button type="button" className="link mt-1 self-start" onClick={gone}>
          leave this out
        </button>
      )}
    </div>
  );
}
