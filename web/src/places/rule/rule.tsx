import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link } from "@tanstack/react-router";
import { type ReactNode, useRef, useState } from "react";
import { api, http, type Rule, type RuleBody, type Schemas, type Sheet, take, type Template } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { draftOf, LeftBehind, useDraft } from "../../parts/draft";
import { freeName, longestName, LookOnly, NameLimit } from "../../parts/name";
import { useOpened } from "../../parts/opened";
import { Scroll } from "../../parts/scroll";
import { useMay, useNow } from "../../parts/session";
import { useSettled } from "../../parts/settled";
import { Slip } from "../../parts/slip";
import { count, isoDay } from "../../parts/time";
import type { RuleSearch } from "../../routes";
import { Here } from "../sheets/looking";
import { type Colleague, unsaved, usePresence } from "../sheets/presence";
import { TemplateEditor } from "../templates/template";
import { Acts } from "./acts";
import { type Effect, EffectView } from "./effect";
import { FaultySlip } from "./faulty";
import { indexIn, reacts, replaced, suggestedName, tidy, type Trigger, withKind } from "./model";
import { SentenceEditor } from "./sentence";
import { TryRow } from "./tryrow";

const page = getRouteApi("/frame/sheets/$sheet/rules/$rule");

export function RulePlace(): ReactNode {
  const p = page.useParams();
  const begin = page.useSearch();
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
    <RuleEditor key={p.rule} sheet={s} rule={r} templates={t.filter((x) => x.sheet === p.sheet)} begin={begin} />
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

// A rule of which nothing has been said but from where it was begun.
function blankRule(sheet: Sheet, templates: Template[], begin: RuleSearch, today: string): RuleBody {
  const emails = sheet.columns.filter((c) => c.type === "email");
  const to = sheet.address || (emails.length === 1 ? emails[0]?.id : undefined);
  const template = begin.template ?? (templates.length === 1 ? templates[0]?.id : undefined) ?? "";
  const body: RuleBody = {
    name: "",
    trigger: { kind: "" },
    send: [{ template }],
    to: to ? [{ column: to }] : [],
    hold: "first-run",
    sameWords: "skip",
  };
  if (!begin.when) return body;
  return withKind({ ...body, trigger: { kind: "", column: begin.column } }, begin.when, sheet, today);
}

type EditorProps = { sheet: Sheet; rule?: Rule; templates: Template[]; begin: RuleSearch };
type Writing = { place: string; template?: Template; name: string };

function RuleEditor({ sheet, rule, templates, begin }: EditorProps) {
  const may = useMay("coordinator");
  const now = useNow(30000);
  const opened = useOpened(rule, (r) =>
    r ? structuredClone(r.body) : blankRule(sheet, templates, begin, isoDay(now, sheet.zone)),
  );
  const { mine: body, edit } = opened;
  const there = usePresence(sheet.id, undefined, rule?.id ?? unsaved);
  const draft = useDraft(may ? draftOf.rule(sheet.id, rule?.id) : "", body, opened.changed, opened.version ?? 0);
  const [today, setToday] = useState<string>();
  const [faulty, setFaulty] = useState(false);
  const [writing, setWriting] = useState<Writing>();
  const before = useRef(new Map<string, Trigger>());
  const address = useAddressOnce(sheet);
  const put = (more: Partial<RuleBody>) => {
    if (more.trigger && more.trigger.kind !== body.trigger.kind) before.current.set(body.trigger.kind, body.trigger);
    if (more.to) address.remember(more.to[0]?.column);
    edit((b) => ({ ...b, ...more }));
  };
  const rules = api.useQuery("get", "/sheets/{sheet}/rules", { params: { path: { sheet: sheet.id } } });
  const others = (rules.data ?? []).filter((r) => r.id !== rule?.id).map((r) => r.body.name);
  const suggested = freeName(suggestedName(sheet, body), others);
  const said = useSaid(sheet.id, body.name.trim() ? body : { ...body, name: suggested });
  const settled = useSettled(body, 200);
  const effect = useEffectOf(sheet.id, tidy(settled), rule, today);
  const e = effect.data;
  const live = e && !e.problem ? e : undefined;
  return (
    <div className="relative flex min-h-0 flex-1 flex-col">
      <Title
        sheet={sheet}
        rule={rule}
        body={body}
        changed={opened.changed}
        effect={live}
        onFaulty={() => setFaulty(true)}
        onName={may ? (name) => put({ name }) : undefined}
        there={there}
        suggested={suggested}
      />
      {!may && (
        <div className="px-5 pb-2">
          <LookOnly what="rule" />
        </div>
      )}
      {draft.left && (
        <LeftBehind
          at={draft.left.at}
          what="rule"
          onTake={() => {
            edit(() => draft.left?.draft ?? body);
            draft.taken();
          }}
          onDrop={draft.drop}
        />
      )}
      <div className="flex min-h-0 flex-1 border-t border-hair max-lg:flex-col max-lg:overflow-auto">
        <div className="flex w-[560px] flex-none flex-col overflow-auto border-r border-hair px-5 pt-6 pb-4 max-lg:w-full">
          <SentenceEditor
            sheet={sheet}
            body={body}
            put={put}
            templates={templates}
            sentence={said.data?.sentence ?? rule?.sentence ?? []}
            faults={said.data?.faults ?? []}
            said={!!said.data}
            rounds={said.data?.rounds ?? []}
            may={may}
            now={now}
            before={(kind) => before.current.get(kind)}
            write={(place, id, name) => setWriting({ place, template: templates.find((t) => t.id === id), name })}
          />
          <Note value={body.note} may={may} onChange={(note) => put({ note })} />
          <Acts
            sheet={sheet}
            rule={rule}
            opened={opened}
            effect={e}
            said={said.data}
            may={may}
            onKept={draft.drop}
            onFaulty={() => setFaulty(true)}
            suggested={suggested}
            beside={writing !== undefined}
          />
        </div>
        <Scroll label="Effect" className="min-w-0 flex-1 bg-sheet px-6.5 pt-5.5 pb-6">
          {live ? (
            <EffectView
              e={live}
              stale={effect.isPlaceholderData}
              sheet={sheet}
              rule={rule}
              body={settled}
              now={now}
              zone={body.zone ?? sheet.zone}
              today={today}
              onToday={setToday}
            />
          ) : (
            <p className="text-ink-2">
              {sheet.figures.rows === 0 && "The sheet has no rows yet. "}Once the sentence is whole, its effect stands
              here: how many rows, when, and the first emails.
            </p>
          )}
          {live && <TryRow sheet={sheet} rule={rule} body={settled} first={live.first[0]?.rowId} />}
        </Scroll>
      </div>
      {faulty && e && (
        <FaultySlip sheet={sheet} rule={rule} rows={e.faulty} total={e.unjudged} onClose={() => setFaulty(false)} />
      )}
      {writing && (
        <LetterSlip
          sheet={sheet}
          writing={writing}
          onClose={() => setWriting(undefined)}
          onSaved={(t) => {
            put(withTemplate(body, writing.place, t.id));
            setWriting(undefined);
          }}
        />
      )}
    </div>
  );
}

// What the server says of the body: its sentence, what is missing, when it comes round.
function useSaid(sheet: string, body: RuleBody) {
  const settled = useSettled(body, 60);
  return useQuery<Schemas["RuleSaid"]>({
    queryKey: [...keys.said(sheet), settled],
    placeholderData: (old) => old,
    meta: { still: true },
    queryFn: ({ signal }) =>
      take(
        http.POST("/sheets/{sheet}/rules/sentence", { params: { path: { sheet } }, body: { body: settled }, signal }),
      ),
  });
}

// The effect: soon of a part of the rows, where they are many, then of all.
function useEffectOf(sheet: string, body: RuleBody, rule: Rule | undefined, today: string | undefined) {
  const against = rule?.state === "on" ? rule.id : undefined;
  const ask = (whole: boolean, signal: AbortSignal) =>
    take(
      http.POST("/sheets/{sheet}/rules/effect", {
        params: { path: { sheet } },
        body: { body, rule: against, today, whole },
        signal,
      }),
    );
  const key = [...keys.effect(sheet), body, against, today];
  const soon = useQuery<Effect>({
    queryKey: key,
    placeholderData: (old) => old,
    meta: { still: true },
    queryFn: ({ signal }) => ask(false, signal),
  });
  const part = soon.data?.partial === true && !soon.isPlaceholderData;
  const whole = useQuery<Effect>({
    queryKey: [...key, "all rows"],
    enabled: part,
    meta: { still: true },
    queryFn: ({ signal }) => ask(true, signal),
  });
  return part && whole.data ? whole : soon;
}

// The column of addresses that is chosen first is the sheet's from then on,
// where the sheet has not said which it is.
function useAddressOnce(sheet: Sheet) {
  const asked = useRef(sheet.address !== "");
  const patch = useWrite<string>({
    write: (address) => http.PATCH("/sheets/{sheet}", { params: { path: { sheet: sheet.id } }, body: { address } }),
    changes: [keys.sheet],
    saved: (_, address) =>
      `${sheet.columns.find((c) => c.id === address)?.name ?? "It"} is the sheet’s column of addresses from now on.`,
    undo: () => http.PATCH("/sheets/{sheet}", { params: { path: { sheet: sheet.id } }, body: { address: "" } }),
  });
  return {
    remember: (column: string | undefined) => {
      if (asked.current || !column) return;
      asked.current = true;
      void patch.do(column);
    },
  };
}

// Puts a template where a blank asks for one.
function withTemplate(body: RuleBody, place: string, template: string): Partial<RuleBody> {
  const i = indexIn(place);
  if (place.startsWith("/trigger/offsets")) {
    const offsets = body.trigger.offsets ?? [];
    const o = offsets[i];
    return o ? { trigger: { ...body.trigger, offsets: replaced(offsets, i, { ...o, template }) } } : {};
  }
  if (place.startsWith("/then") && body.then) {
    const s = body.then.steps[i];
    return s ? { then: { ...body.then, steps: replaced(body.then.steps, i, { ...s, template }) } } : {};
  }
  if (body.send.length === 0) return { send: [{ template }] };
  return { send: body.send.map((w, k) => (k === i ? { ...w, template } : w)) };
}

function LetterSlip(p: { sheet: Sheet; writing: Writing; onClose: () => void; onSaved: (t: Template) => void }) {
  const { template, name } = p.writing;
  return (
    <Slip title={template ? `Template ${template.name}` : "A new template"} onClose={p.onClose} wide="letter">
      <TemplateEditor
        key={template?.id ?? "new"}
        sheet={p.sheet}
        template={template}
        beside={{ name, onSaved: p.onSaved }}
      />
    </Slip>
  );
}

type TitleProps = {
  sheet: Sheet;
  rule?: Rule;
  body: RuleBody;
  changed: boolean;
  effect?: Effect;
  suggested: string; // its name, as long as nobody gives it one
  onFaulty: () => void;
  there: Colleague[];
  onName?: (n: string) => void;
};
function Title(p: TitleProps) {
  const { sheet, rule, body, effect: e } = p;
  const state = rule?.state ?? "draft";
  return (
    <div className="flex items-start gap-6 px-5 pt-[18px] pb-3.5">
      <h1>
        {p.onName ? (
          <input
            aria-label="Name of the rule"
            className="min-w-16 border-b border-dotted border-juniper bg-transparent font-semibold outline-offset-4 [field-sizing:content]"
            placeholder={p.suggested}
            title="Type another name"
            maxLength={longestName}
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
        {e && <Figures {...p} e={e} state={state} />}
      </h1>
      <NameLimit name={body.name} />
      <Here there={p.there} />
    </div>
  );
}

function Figures({ body, changed, e, state, onFaulty }: TitleProps & { e: Effect; state: Rule["state"] }) {
  const unjudged = e.unjudged > 0 && (
    <button type="button" className="needs" onClick={onFaulty}>
      {count(e.unjudged, "row")} cannot be judged.
    </button>
  );
  if (body.trigger.kind === "by-hand") return <>It is sent by hand. {unjudged}</>;
  if (reacts(body.trigger.kind)) return <>It answers edits as they settle. {unjudged}</>;
  const does = state !== "on" ? "Would write" : changed ? "With this change it writes" : "Writes";
  return (
    <>
      {does} <span className="figure">{count(e.emails, "email")}</span> in the next 60 days
      {e.incomplete > 0 && (
        <>
          ; <span className="text-brick">{e.incomplete.toLocaleString("en-GB")} of them cannot go out yet</span>
        </>
      )}
      . {unjudged}
    </>
  );
}

function Note({ value, may, onChange }: { value?: string; may: boolean; onChange: (n: string | undefined) => void }) {
  const [open, setOpen] = useState(false);
  if (!may) return value ? <p className="mt-4 whitespace-pre-line text-ink-2">{value}</p> : null;
  if (!open && !value) {
    return (
      <button
        type="button"
        className="print:hidden mt-3 self-start border-b border-dotted border-ink-2 text-ink-2"
        onClick={() => setOpen(true)}
      >
        a note for colleagues …
      </button>
    );
  }
  return (
    <textarea
      className="field mt-4 w-full text-ink-2"
      aria-label="Note for colleagues"
      placeholder="Why this rule is there, whom to ask"
      rows={2}
      maxLength={2000}
      value={value ?? ""}
      onChange={(e) => onChange(e.target.value || undefined)}
    />
  );
}
