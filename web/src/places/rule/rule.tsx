import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";
import { toast } from "sonner";
import { api, http, type Rule, type RuleBody, type Schemas, type Sheet, take, type Template } from "../../api/client";
import { keys, ofSheet } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { Overtaken, useOpened } from "../../parts/opened";
import { Scroll } from "../../parts/scroll";
import { useMay, useNow } from "../../parts/session";
import { count, upperFirst } from "../../parts/time";
import { useSettled } from "../../parts/settled";
import { type Effect, EffectView } from "./effect";
import { DateSentence, MorePhrases, Sentence } from "./sentence";
import { TryRow } from "./tryrow";

const page = getRouteApi("/frame/sheets/$sheet/rules/$rule");

export function RulePlace(): ReactNode {
  const p = page.useParams();
  const isNew = p.rule === "new";
  const sheet = api.useQuery("get", "/sheets/{sheet}", { params: { path: { sheet: p.sheet } } });
  const rule = api.useQuery("get", "/sheets/{sheet}/rules/{rule}", { params: { path: p } }, { enabled: !isNew });
  const templates = api.useQuery("get", "/templates");
  const back = (
    <Link to="/sheets/$sheet" params={{ sheet: p.sheet }} className="link">
      Back to the sheet
    </Link>
  );
  const editor = (s: Sheet, t: Template[], r?: Rule) => (
    <RuleEditor key={p.rule} sheet={s} rule={r} templates={t.filter((x) => x.sheet === p.sheet)} />
  );
  return (
    <Await query={sheet} back={back}>
      {(s) => (
        <Await query={templates} back={back}>
          {(t) =>
            isNew ? (
              editor(s, t)
            ) : (
              <Await query={rule} back={back}>
                {(r) => editor(s, t, r)}
              </Await>
            )
          }
        </Await>
      )}
    </Await>
  );
}

function blankRule(sheet: Sheet, templates: Template[]): RuleBody {
  const date = sheet.columns.find((c) => c.type === "date") ?? sheet.columns.find((c) => c.type === "moment");
  return {
    name: "",
    trigger: { kind: "date", column: date?.id ?? "", offsets: [{ n: -7, unit: "days" }], at: "09:00" },
    send: [{ template: templates[0]?.id ?? "" }],
    to: sheet.address ? [{ column: sheet.address }] : [],
  };
}

const reacts = (body: RuleBody) => body.trigger.kind !== "date" && body.trigger.kind !== "schedule";

function RuleEditor({ sheet, rule, templates }: { sheet: Sheet; rule?: Rule; templates: Template[] }) {
  const may = useMay("coordinator");
  const now = useNow(30000);
  const opened = useOpened(rule, (r) => (r ? structuredClone(r.body) : blankRule(sheet, templates)));
  const { mine: body, edit, changed } = opened;
  const settled = useSettled(body, 250);
  const put = (more: Partial<RuleBody>) => edit((b) => ({ ...b, ...more }));
  const effect = useQuery({
    queryKey: [...keys.effect(sheet.id), settled],
    placeholderData: (old: Effect | undefined) => old,
    meta: { still: true },
    queryFn: () => take(http.POST("/sheets/{sheet}/rules/effect", { params: { path: { sheet: sheet.id } }, body: { body: settled } })),
  });
  const e = effect.data;
  const live = e && !e.problem ? e : undefined;
  const dated = body.trigger.kind === "date";
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <Title sheet={sheet} rule={rule} body={body} changed={changed} effect={live} onName={may ? (name) => put({ name }) : undefined} />
      <div className="flex min-h-0 flex-1 border-t border-hair max-lg:flex-col max-lg:overflow-auto">
        <div className="flex w-[560px] flex-none flex-col overflow-auto border-r border-hair px-5 pt-6 pb-4 max-lg:w-full">
          {!dated ? (
            <Sentence of={rule?.sentence ?? []} className="mb-3 font-letter text-[19px] leading-[34px]" />
          ) : sheet.columns.some((c) => c.type === "date" || c.type === "moment") ? (
            <DateSentence sheet={sheet} body={body} phrases={e?.phrases} may={may} put={put} templates={templates} effect={live} />
          ) : (
            <p>This sheet has no column of dates, so no date rule can hang on it.</p>
          )}
          {may && dated && <MorePhrases sheet={sheet} body={body} put={put} />}
          <Acts sheet={sheet} rule={rule} opened={opened} effect={e} may={may} />
        </div>
        <Scroll label="Effect" className="min-w-0 flex-1 bg-sheet px-6.5 pt-5.5 pb-6">
          {live ? (
            <EffectView e={live} sheet={sheet} now={now} zone={body.zone ?? sheet.zone} />
          ) : (
            <p className="text-ink-2">Once the sentence is whole, its effect stands here: how many rows, when, and the first emails.</p>
          )}
          {live && <TryRow sheet={sheet} body={settled} first={live.first[0]?.rowId} />}
        </Scroll>
      </div>
    </div>
  );
}

function Title(p: { sheet: Sheet; rule?: Rule; body: RuleBody; changed: boolean; effect?: Effect; onName?: (n: string) => void }) {
  const { sheet, rule, body, effect: e } = p;
  const state = rule?.state ?? "draft";
  return (
    <div className="px-5 pt-[18px] pb-3.5">
      <h1>
        {p.onName ? (
          <input
            aria-label="Name of the rule"
            className="min-w-32 border-b border-dotted border-juniper bg-transparent font-semibold outline-offset-4 [field-sizing:content]"
            placeholder="Name the rule"
            value={body.name}
            onChange={(ev) => p.onName?.(ev.target.value)}
          />
        ) : (
          <b>{body.name}</b>
        )}
        {rule ? <>, rule {rule.letter} of </> : <>, a new rule of </>}
        <Link to="/sheets/$sheet" params={{ sheet: sheet.id }} className="figure">
          {sheet.name}
        </Link>
        , {state === "on" ? "is on" : state === "paused" ? "is paused" : "is not on yet"}.{" "}
        {e && reacts(body) && (body.trigger.kind === "by-hand" ? "It is sent by hand." : "It answers edits as they settle.")}
        {e && !reacts(body) && (
          <>
            {state === "on" && !p.changed ? "Writes" : "Would write"} <span className="figure">{count(e.emails, "email")}</span> in the next
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
  );
}

type ActsProps = { sheet: Sheet; rule?: Rule; opened: ReturnType<typeof useOpened<Rule, RuleBody>>; effect?: Effect; may: boolean };

// Saving, switching on and off, and taking away.
function Acts({ sheet, rule, opened, effect: e, may }: ActsProps) {
  const navigate = useNavigate();
  const { mine: body, changed } = opened;
  const [acting, setActing] = useState(false);
  const path = { sheet: sheet.id, rule: rule?.id ?? "" };
  const changes = [...ofSheet(sheet.id), keys.templates];
  const after = (r: Rule) => {
    opened.saved(r);
    if (!rule) void navigate({ to: "/sheets/$sheet/rules/$rule", params: { sheet: sheet.id, rule: r.id }, replace: true });
  };
  const save = useWrite<RuleBody, Rule>({
    write: (body) =>
      rule
        ? http.PUT("/sheets/{sheet}/rules/{rule}", { params: { path }, body: { body, version: opened.version } })
        : http.POST("/sheets/{sheet}/rules", { params: { path: { sheet: sheet.id } }, body: { body } }),
    changes,
    after: (r, sent) => opened.saved(r, sent),
    quiet: true,
  });
  const turn = useWrite<{ rule: string; state: "on" | "paused" }, Rule>({
    write: (v) =>
      http.PUT("/sheets/{sheet}/rules/{rule}/state", { params: { path: { sheet: sheet.id, rule: v.rule } }, body: { state: v.state } }),
    changes,
    after,
    quiet: rule !== undefined,
  });
  const remove = useWrite({
    write: () => http.DELETE("/sheets/{sheet}/rules/{rule}", { params: { path } }),
    changes,
    after: () => void navigate({ to: "/sheets/$sheet", params: { sheet: sheet.id } }),
    quiet: true,
  });
  const state = rule?.state ?? "draft";
  const underWay = acting || save.busy || turn.busy || remove.busy;
  const busy = underWay || opened.newer !== undefined;
  const saveOnly = async () => {
    const r = await save.do(body);
    if (!r) return;
    toast.success(state === "on" ? "Saved. What was past by now stays as it is." : "Saved.");
    after(r);
  };
  // A rule is saved before it is switched on, so that what stands on the page goes on.
  const switchTo = async (to: "on" | "paused") => {
    setActing(true);
    const r = to === "on" && (changed || !rule) ? await save.do(body) : rule;
    const turned = r && (await turn.do({ rule: r.id, state: to }));
    if (r && !turned && !rule) after(r); // it is saved all the same
    setActing(false);
  };
  const failed = [save, turn, remove].map((w) => w.failed).find((f) => f && f.newer === undefined);
  const live = e && !e.problem;
  return (
    <div className="mt-auto pt-6">
      {opened.newer && !underWay && (
        <Overtaken
          what="rule"
          theirs={<Side name={opened.newer.body.name} of={opened.newer} other={e} />}
          mine={<Side name={body.name} of={e} other={opened.newer} />}
          onTheirs={opened.takeTheirs}
          onMine={opened.keepMine}
        />
      )}
      <p role="alert" className="min-h-5 text-brick">
        {failed?.title}
      </p>
      {e?.problem && <p className="text-marigold">{upperFirst(e.problem.message)}.</p>}
      {may && (
        <div className="mt-2 flex flex-wrap items-center gap-3">
          {state !== "on" && (
            <button type="button" className="act" disabled={busy || !live || !body.name.trim()} onClick={() => void switchTo("on")}>
              {state === "paused" ? "Resume" : "Switch on"}
              {live && !reacts(body) && `: ${count(e.emails, "email")} in 60 days`}
            </button>
          )}
          <button
            type="button"
            className={state === "on" ? "act" : "act-plain"}
            disabled={busy || !changed || !body.name.trim()}
            onClick={() => void saveOnly()}
          >
            Save
          </button>
          {state === "on" && (
            <button type="button" className="act-plain" disabled={busy} onClick={() => void switchTo("paused")}>
              Pause
            </button>
          )}
          {live && <WhatStays effect={e} state={state} changed={changed} />}
          {rule && state !== "on" && (
            <button type="button" className="link ml-auto text-brick!" onClick={() => void remove.do()} disabled={busy}>
              Take this rule away
            </button>
          )}
        </div>
      )}
    </div>
  );
}

type Said = { sentence: Schemas["Segment"][]; phrases: Schemas["Phrases"] };
const parts: Partial<Record<keyof Schemas["Phrases"], string>> = {
  when: "When",
  column: "Date",
  every: "Every",
  at: "At",
  zone: "Zone",
  condition: "Only where",
  template: "Template",
  to: "To",
  cc: "Copy to",
  bcc: "Blind copy to",
  replyTo: "Answers to",
  late: "Not later than",
  window: "Only within",
  repeat: "How often",
  then: "Then",
  hold: "Held",
};

// One of two writings of a rule, and in what it differs from the other.
function Side({ name, of, other }: { name: string; of?: Said; other?: Said }) {
  if (!of || !other) return null;
  const differs = (Object.entries(parts) as [keyof Schemas["Phrases"], string][]).filter(([k]) => of.phrases[k] !== other.phrases[k]);
  return (
    <>
      <p className="font-[650]">{name}</p>
      <Sentence of={of.sentence} className="font-letter text-[15px] leading-6" />
      <dl className="mt-1">
        {differs.map(([k, label]) => (
          <div key={k}>
            <dt className="inline text-ink-2">{label}:</dt> <dd className="inline bg-wash">{of.phrases[k] || "nothing"}</dd>
          </div>
        ))}
      </dl>
    </>
  );
}

function WhatStays({ effect: e, state, changed }: { effect: Effect; state: Rule["state"]; changed: boolean }) {
  if (state === "on") return changed && <span className="text-ink-2">Saving begins anew from now; what went out does not go again.</span>;
  return (
    <span className="text-ink-2">
      {e.past > 0
        ? `${count(e.past, "past date stays", "past dates stay")} as ${e.past === 1 ? "it is" : "they are"}.`
        : "No date is past."}
    </span>
  );
}
