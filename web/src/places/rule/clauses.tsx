// What opens from each blank of a rule's sentence, by its place in the rule, and
// how an optional clause is left out again.
import type { ReactNode } from "react";
import type { Column, Condition, RuleBody, Schemas, Sheet, Template } from "../../api/client";
import { DurationField } from "../../parts/fields";
import { longestName } from "../../parts/name";
import { Choices } from "../../parts/picker";
import { isoDay } from "../../parts/time";
import { isDate, nameable, valueType } from "../sheets/cell";
import { ConditionEditor } from "../sheets/condition";
import {
  After,
  At,
  ColumnChoice,
  Columns,
  EveryBlank,
  KindChoice,
  Level,
  Offsets,
  Passes,
  Times,
  Values,
  Zone,
} from "./blanks";
import { BrakeBlank, HoldBlank, RepeatBlank, ShiftBlank, WindowBlank } from "./bounds";
import {
  becoming,
  changeOf,
  indexIn,
  type Kind,
  replaced,
  type Source,
  type Step,
  type Trigger,
  withEvery,
  withKind,
  without,
} from "./model";
import { Addresses } from "./people";
import { Schedule } from "./schedule";

export type Editing = {
  sheet: Sheet;
  body: RuleBody;
  put: (more: Partial<RuleBody>) => void;
  templates: Template[];
  rounds: Schemas["Round"][];
  now: Date;
  /** The trigger that a kind had before another was tried. */
  before: (kind: string) => Trigger | undefined;
  /** Opens the letter of a template, or a new one, for the place. */
  write: (place: string, template: string | undefined, name: string) => void;
  /** Opens another blank. */
  go: (place: string) => void;
};
type Opened = { title: string; body: ReactNode; remove?: () => void };

export function Clause(p: Editing & { place: string; fault?: string; unsaid?: boolean }) {
  const c = clauseAt(p.place, p);
  return (
    <>
      <h2 className="mb-2 text-xs font-[650] text-ink-2">{c.title}</h2>
      {p.fault && !p.unsaid && (
        <p role="alert" className="mb-2 max-w-80 text-brick">
          {p.fault}
        </p>
      )}
      {c.body}
      {c.remove && (
        <button type="button" className="link mt-3 block text-brick!" onClick={c.remove}>
          Remove from the sentence
        </button>
      )}
    </>
  );
}

function clauseAt(place: string, p: Editing): Opened {
  if (place.startsWith("/trigger/offsets/")) return own(place, p);
  if (place.startsWith("/trigger")) return trigger(place, p);
  if (place.startsWith("/send")) return wording(place, p);
  if (place.startsWith("/then/steps")) return step(place, p);
  return whole(place, p);
}

// Where one goes on after a kind has been chosen: to what it asks first.
const nextPlace: Record<Kind, string> = {
  date: "/trigger/offsets",
  change: "/trigger/column",
  threshold: "/trigger/limit",
  edited: "/trigger/columns",
  schedule: "/trigger/rrule",
  added: "/send/0/template",
  "by-hand": "/send/0/template",
};

// The blank that opens the sentence also changes the kind of when.
function Kinds(p: Editing) {
  const { body, sheet, now, put } = p;
  const to = (kind: Kind) => {
    if (kind !== body.trigger.kind)
      put(changeOf(body, withKind(body, kind, sheet, isoDay(now, sheet.zone), p.before(kind))));
    p.go(nextPlace[kind]);
  };
  return <KindChoice value={body.trigger.kind} onChange={to} />;
}
function AnotherKind(p: Editing) {
  return (
    <details className="mt-3 border-t border-hair-2 pt-2">
      <summary className="link cursor-pointer">another “when” …</summary>
      <div className="mt-2">
        <Kinds {...p} />
      </div>
    </details>
  );
}

function trigger(place: string, p: Editing): Opened {
  const { body, sheet, put, templates } = p;
  const t = body.trigger;
  const set = (more: Partial<Trigger>) => put({ trigger: { ...t, ...more } });
  const column = nameable(sheet).find((c) => c.id === t.column);
  const moment = column !== undefined && valueType(column) === "moment";
  switch (place) {
    case "/trigger/kind":
      return { title: "When it is written", body: <Kinds {...p} /> };
    case "/trigger/offsets":
      return {
        title: "How long before or after",
        body: (
          <>
            <Offsets
              offsets={t.offsets ?? []}
              hours={moment && !t.at}
              templates={templates}
              onChange={(offsets) => set({ offsets })}
            />
            <AnotherKind {...p} />
          </>
        ),
      };
    case "/trigger/at":
      return {
        title: "At which time of day",
        body: <At value={t.at} moment={moment} onChange={(at) => set(atOf(t, at))} />,
      };
    case "/trigger/every":
      return {
        title: "How often the date comes round",
        body: (
          <EveryBlank
            value={t.every ?? { unit: "years", n: 1 }}
            onChange={(every) => put(changeOf(body, withEvery(body, every)))}
          />
        ),
        remove: () => put(changeOf(body, withEvery(body))),
      };
    case "/trigger/delay":
      return {
        title: "How long after it",
        body: (
          <>
            <DurationField label="After" value={t.delay ?? "PT1H"} onChange={(delay) => set({ delay })} />
            {(t.kind === "threshold" || (t.kind === "change" && t.to)) && (
              <p className="mt-2 max-w-72 text-ink-2">A row that has been left again by then gets no email.</p>
            )}
          </>
        ),
        remove: () => set({ delay: undefined }),
      };
    case "/trigger/to":
      return {
        title: "What it becomes",
        body: (
          <Values column={column} value={t.to} onChange={(to) => set({ to })} any="anything: whenever it changes" />
        ),
      };
    case "/trigger/from":
      return {
        title: "What it was before",
        body: (
          <Values
            column={column}
            value={t.from}
            onChange={(from) => set({ from: from ?? undefined })}
            any="anything"
          />
        ),
        remove: () => set({ from: undefined }),
      };
    case "/trigger/columns":
      return {
        title: "Which columns",
        body: (
          <Columns
            columns={sheet.columns.filter((c) => c.type !== "formula")}
            value={t.columns ?? []}
            onChange={(columns) => set({ columns })}
          />
        ),
      };
    case "/trigger/op":
      return { title: "How it passes the limit", body: <Passes value={t.op} onChange={(op) => set({ op })} /> };
    case "/trigger/limit":
      return {
        title: "Which limit",
        body: <Level sheet={sheet} trigger={t} value={t.limit} onChange={(limit) => set({ limit })} />,
      };
    case "/trigger/rearm":
      return {
        title: "Once it has come back to",
        body: <Level sheet={sheet} trigger={t} value={t.rearm} share onChange={(rearm) => set({ rearm })} />,
        remove: () => set({ rearm: undefined }),
      };
    case "/trigger/rrule":
      return {
        title: "When it comes round",
        body: (
          <>
            <Schedule body={body} rounds={p.rounds} now={p.now} zone={body.zone ?? sheet.zone} onChange={put} />
            <AnotherKind {...p} />
          </>
        ),
      };
  }
  return { title: "Which column", body: <TriggerColumn {...p} column={column} /> };
}

function atOf(t: Trigger, at: string | undefined): Partial<Trigger> {
  if (!at) return { at };
  const ofDays = (t.offsets ?? []).filter((o) => o.unit === "days" || o.unit === "working-days");
  return { at, offsets: ofDays.length > 0 ? ofDays : [{ n: -1, unit: "days" }] };
}

function TriggerColumn(p: Editing & { column?: Column }) {
  const { body, sheet, put } = p;
  const t = body.trigger;
  const fits: Record<string, (c: Column) => boolean> = { date: isDate, threshold: (c) => valueType(c) === "number" };
  const none: Record<string, string> = {
    date: "The sheet has no column of dates. Set the type of one to date in its head.",
    threshold: "The sheet has no column of numbers. Set the type of one to number in its head.",
  };
  const choose = (id: string) => {
    const c = nameable(sheet).find((x) => x.id === id);
    const more: Partial<Trigger> = { column: id };
    if (t.kind === "date" && c) {
      more.at = valueType(c) === "moment" ? undefined : (t.at ?? "09:00");
      if (valueType(c) !== "moment") more.offsets = atOf(t, "09:00").offsets;
    }
    if (t.kind === "change" && id !== t.column) Object.assign(more, { from: undefined, ...becoming(c) });
    put({ trigger: { ...t, ...more } });
  };
  return (
    <ColumnChoice
      columns={nameable(sheet).filter(fits[t.kind] ?? (() => true))}
      value={t.column}
      onChange={choose}
      none={none[t.kind] ?? "The sheet has no columns."}
    />
  );
}

// The wording that one offset has of its own.
function own(place: string, p: Editing): Opened {
  const offsets = p.body.trigger.offsets ?? [];
  const i = indexIn(place);
  const o = offsets[i];
  const set = (template: string | undefined) =>
    o && p.put({ trigger: { ...p.body.trigger, offsets: replaced(offsets, i, { ...o, template }) } });
  return {
    title: "Which template then",
    body: <TemplateChoice {...p} place={place} value={o?.template} onChange={set} />,
    remove: () => set(undefined),
  };
}

function wording(place: string, p: Editing): Opened {
  const { body, put } = p;
  const i = indexIn(place);
  const w = body.send[i] ?? { template: "" };
  const set = (more: Partial<typeof w>) =>
    put({ send: body.send.length === 0 ? [{ ...w, ...more }] : replaced(body.send, i, { ...w, ...more }) });
  const gone = body.send.length > 1 ? () => put({ send: without(body.send, i) }) : undefined;
  if (place.endsWith("/if")) {
    return {
      title: "Where this template is used",
      body: <ConditionEditor columns={nameable(p.sheet)} past value={w.if} onChange={(c) => set({ if: c })} />,
      remove: gone ?? (() => set({ if: undefined })),
    };
  }
  return {
    title: "Which template",
    body: <TemplateChoice {...p} place={place} value={w.template} onChange={(template) => set({ template })} />,
    remove: gone,
  };
}

type TemplateProps = Editing & { place: string; value?: string; onChange: (id: string) => void };
function TemplateChoice({ templates, value, onChange, write, place }: TemplateProps) {
  return (
    <>
      {templates.length > 0 && (
        <Choices
          name="template"
          value={value}
          onChoose={onChange}
          items={templates.map((t) => ({ id: t.id, name: t.name }))}
        />
      )}
      {value && templates.some((t) => t.id === value) && (
        <button type="button" className="link mt-2 block" onClick={() => write(place, value, "")}>
          read and change it here
        </button>
      )}
      <form
        className="mt-2 flex items-center gap-2 border-t border-hair-2 pt-2"
        onSubmit={(e) => {
          e.preventDefault();
          const name = new FormData(e.currentTarget).get("name");
          write(place, undefined, typeof name === "string" ? name.trim() : "");
        }}
      >
        <input
          name="name"
          className="field w-44"
          aria-label="Name of a new template"
          placeholder="name of a new one"
          maxLength={longestName}
        />
        <button type="submit" className="link">
          write it here
        </button>
      </form>
    </>
  );
}

function step(place: string, p: Editing): Opened {
  const { body, put, sheet } = p;
  const then = body.then ?? { steps: [] };
  const i = indexIn(place);
  const s: Step = then.steps[i] ?? { after: "P3D", template: "" };
  const set = (more: Partial<Step>) => put({ then: { ...then, steps: replaced(then.steps, i, { ...s, ...more }) } });
  const gone = () => put({ then: then.steps.length > 1 ? { ...then, steps: without(then.steps, i) } : undefined });
  const emails = sheet.columns.filter((c) => c.type === "email");
  const list = (value: Source[] | undefined, key: "to" | "cc" | "bcc", title: string): Opened => ({
    title,
    body: <Addresses columns={emails} value={value ?? []} onChange={(v) => set({ [key]: v })} />,
    remove: () => set({ [key]: undefined }),
  });
  switch (place.slice(place.lastIndexOf("/") + 1)) {
    case "template":
      return {
        title: "Which template then",
        body: <TemplateChoice {...p} place={place} value={s.template} onChange={(template) => set({ template })} />,
        remove: gone,
      };
    case "every":
      return {
        title: "And then again",
        body: (
          <div className="flex flex-col gap-2">
            <span className="flex items-center gap-2">
              every <DurationField label="Every" value={s.every ?? "P1W"} onChange={(every) => set({ every })} />
            </span>
            <Times value={s.times} onChange={(times) => set({ times })} />
          </div>
        ),
        remove: () => set({ every: undefined, times: undefined }),
      };
    case "to":
      return list(s.to, "to", "To these instead");
    case "cc":
      return list(s.cc, "cc", "Cc: a copy to");
    case "bcc":
      return list(s.bcc, "bcc", "Bcc: a blind copy to");
  }
  const at = `/then/steps/${i}`;
  const more = (words: string, key: "every" | "to" | "cc", value: Partial<Step>) =>
    !s[key] && (
      <button
        type="button"
        className="link self-start"
        onClick={() => {
          set(value);
          p.go(`${at}/${key}`);
        }}
      >
        {words}
      </button>
    );
  return {
    title: "How long after the first email",
    body: (
      <div className="flex flex-col gap-2">
        <After after={s.after} at={s.at} onChange={set} />
        {more("and then again and again …", "every", { every: "P1W", times: 8 })}
        {more("to others …", "to", { to: [{}] })}
        {more("with a copy to …", "cc", { cc: [{}] })}
      </div>
    ),
    remove: gone,
  };
}

function whole(place: string, p: Editing): Opened {
  const { body, put, sheet } = p;
  const emails = sheet.columns.filter((c) => c.type === "email");
  const people = (key: "to" | "cc" | "bcc" | "replyTo", title: string): Opened => ({
    title,
    body: <Addresses columns={emails} value={body[key] ?? []} onChange={(v) => put({ [key]: v })} />,
    remove: key === "to" ? undefined : () => put({ [key]: undefined }),
  });
  const condition = (
    value: Condition | undefined,
    title: string,
    set: (c: Condition | undefined) => void,
  ): Opened => ({
    title,
    body: <ConditionEditor columns={nameable(sheet)} past value={value} onChange={set} />,
    remove: () => set(undefined),
  });
  switch (place) {
    case "/condition":
      return condition(body.condition, "Only rows where", (c) => put({ condition: c }));
    case "/then/stopIf":
      return condition(
        body.then?.stopIf,
        "Until this holds",
        (c) => body.then && put({ then: { ...body.then, stopIf: c } }),
      );
    case "/to":
      return people("to", "To");
    case "/cc":
      return people("cc", "Cc: a copy to");
    case "/bcc":
      return people("bcc", "Bcc: a blind copy to");
    case "/replyTo":
      return people("replyTo", "Replies go to");
    case "/each":
      return {
        title: "Each alone",
        body: <p className="max-w-72">Every address gets an email of its own; none sees the others.</p>,
        remove: () => put({ each: undefined }),
      };
    case "/optOut":
      return {
        title: "To unsubscribe",
        body: (
          <p className="max-w-72">
            Email programs show their own way to unsubscribe. Whoever follows it is put on the do-not-email list. An
            email to several addresses leads to a page that asks which of them is meant.
          </p>
        ),
        remove: () => put({ optOut: undefined }),
      };
    case "/groupBy":
      return {
        title: "One round-up",
        body: <p className="max-w-72">Each address gets one email about all rows that concern it, as a table.</p>,
        remove: () => put({ groupBy: undefined }),
      };
    case "/window":
      return {
        title: "Only within",
        body: <WindowBlank value={body.window ?? {}} onChange={(w) => put({ window: w })} />,
        remove: () => put({ window: undefined, shift: undefined }),
      };
    case "/shift":
      return {
        title: "What falls outside goes",
        body: <ShiftBlank value={body.shift} onChange={(shift) => put({ shift })} />,
      };
    case "/repeat":
      return {
        title: "How often to one row",
        body: <RepeatBlank value={body.repeat} onChange={(repeat) => put({ repeat })} />,
        remove: () => put({ repeat: undefined }),
      };
    case "/sameWords":
      return {
        title: "The same words",
        body: (
          <p className="max-w-72">
            An email that says to the same people what another has said within twelve hours is skipped, and the log
            names the other. Emails of this rule to one row are never compared with each other.
          </p>
        ),
        remove: () => put({ sameWords: undefined }),
      };
    case "/late":
      return {
        title: "An email that could not go on time may still go for",
        body: <DurationField label="Not later than" value={body.late ?? "PT24H"} onChange={(late) => put({ late })} />,
        remove: () => put({ late: undefined }),
      };
    case "/hold":
      return {
        title: "Held until somebody has reviewed it",
        body: <HoldBlank value={body.hold} onChange={(hold) => put({ hold })} />,
        remove: () => put({ hold: undefined }),
      };
    case "/brake":
      return {
        title: "Held where more come at once",
        body: <BrakeBlank value={body.brake ?? { count: 20, share: 0.25 }} onChange={(brake) => put({ brake })} />,
        remove: () => put({ brake: undefined }),
      };
    case "/zone":
      return {
        title: "In which time zone",
        body: <Zone value={body.zone ?? sheet.zone} sheetZone={sheet.zone} onChange={(zone) => put({ zone })} />,
        remove: () => put({ zone: undefined }),
      };
  }
  return { title: "When it is written", body: <Kinds {...p} /> };
}
