// A rule while it is edited is its body itself, changed part by part, so that
// what no blank shows stays as it came. Here is what those changes have in
// common: kinds of triggers, recurrences, and which blank a place is.
import type { Column, Condition, RuleBody, Sheet } from "../../api/client";
import { isDate, nameable, valueType } from "../sheets/cell";

export type Trigger = RuleBody["trigger"];
export type Offset = NonNullable<Trigger["offsets"]>[number];
export type Every = NonNullable<Trigger["every"]>;
export type Step = NonNullable<RuleBody["then"]>["steps"][number];
export type Source = RuleBody["to"][number];
export type Window = NonNullable<RuleBody["window"]>;

export type Kind = "date" | "change" | "added" | "edited" | "threshold" | "schedule" | "by-hand";
export const kinds: { id: Kind; name: string }[] = [
  { id: "date", name: "some days before or after a date" },
  { id: "change", name: "as soon as a cell becomes something" },
  { id: "threshold", name: "as soon as a number passes a limit" },
  { id: "added", name: "as soon as a row is added" },
  { id: "edited", name: "whenever some columns are edited" },
  { id: "schedule", name: "on a schedule, or once on a day" },
  { id: "by-hand", name: "by hand, to rows that I pick" },
];
/** Reports whether the kind answers an edit. */
export const reacts = (kind: string) => ["change", "threshold", "added", "edited"].includes(kind);

const typed = (type: string) => (c: Column) => valueType(c) === type;

/** A trigger of another kind, which keeps of the old one what fits it. */
export function triggerOf(kind: Kind, was: Trigger, sheet: Sheet, today: string): Trigger {
  const old = nameable(sheet).find((c) => c.id === was.column);
  const column = (fits: (c: Column) => boolean) => (old && fits(old) ? old : sheet.columns.find(fits));
  switch (kind) {
    case "date": {
      const c = column(isDate);
      const moment = c !== undefined && valueType(c) === "moment";
      return {
        kind,
        column: c?.id ?? "",
        offsets: was.offsets ?? [{ n: -7, unit: "days" }],
        at: moment ? undefined : (was.at ?? "09:00"),
      };
    }
    case "change": {
      const c = old ?? column(typed("choice")) ?? column(typed("yes/no")) ?? sheet.columns[0];
      return { kind, column: c?.id ?? "", ...becoming(c) };
    }
    case "threshold":
      return { kind, column: column(typed("number"))?.id ?? "", op: was.op ?? ">=", limit: was.limit ?? null };
    case "edited":
      return { kind, columns: was.columns ?? (old && old.type !== "formula" ? [old.id] : []) };
    case "schedule":
      return { kind, start: was.start ?? `${today}T${was.at ?? "09:00"}`, rrule: was.rrule ?? "FREQ=WEEKLY;BYDAY=FR" };
    default:
      return { kind };
  }
}

/** What a cell of a column is first supposed to become. */
export function becoming(c?: Column): Pick<Trigger, "to" | "from"> {
  switch (c && valueType(c)) {
    case "choice":
      return { to: [] };
    case "yes/no":
      return { to: [true] };
  }
  return { to: null };
}

/** A rule whose trigger is of another kind; what the kind forbids is left out. */
export function withKind(body: RuleBody, kind: Kind, sheet: Sheet, today: string, before?: Trigger): RuleBody {
  const trigger = before ?? triggerOf(kind, body.trigger, sheet, today);
  const out: RuleBody = { ...body, trigger };
  if (kind !== "schedule") delete out.groupBy;
  const own = body.trigger.offsets?.find((o) => o.template)?.template;
  if (own && !out.send[0]?.template) out.send = [{ template: own }];
  return out;
}

/** The parts of a recurrence (RFC 5545, 3.3.10), in their order; what no
 * control knows stays among them. */
export type Recurrence = [name: string, value: string][];

export function readRecurrence(text: string | null | undefined): Recurrence {
  return (text ?? "")
    .trim()
    .toUpperCase()
    .replace(/^RRULE:/, "")
    .split(";")
    .filter((p) => p.includes("="))
    .map((p) => [p.slice(0, p.indexOf("=")), p.slice(p.indexOf("=") + 1)]);
}
export const writeRecurrence = (r: Recurrence): string => r.map(([n, v]) => `${n}=${v}`).join(";");
export const partOf = (r: Recurrence, name: string): string | undefined => r.find(([n]) => n === name)?.[1];

/** Sets some parts; undefined takes one out. */
export function withParts(r: Recurrence, parts: Record<string, string | undefined>): Recurrence {
  const kept = r.flatMap(([n, v]): Recurrence => {
    if (!(n in parts)) return [[n, v]];
    const next = parts[n];
    return next === undefined ? [] : [[n, next]];
  });
  const more = Object.entries(parts).filter(([n, v]) => v !== undefined && partOf(r, n) === undefined) as Recurrence;
  return [...kept, ...more];
}

/** Reports whether a place lies in the clause of another, or holds it: that is
 * where a fault is shown. */
export const meets = (place: string, other: string): boolean =>
  place === other || place.startsWith(`${other}/`) || other.startsWith(`${place}/`);

/** The index in a place such as /send/1/if. */
export const indexIn = (place: string): number => Number(/\/(\d+)(?:\/|$)/.exec(place)?.[1] ?? 0);

/** Puts one thing of a list in place of another. */
export const replaced = <T>(list: readonly T[], i: number, x: T): T[] => list.map((y, k) => (k === i ? x : y));
export const without = <T>(list: readonly T[], i: number): T[] => list.filter((_, k) => k !== i);

/** The column that an operand or a level names, if it does. */
export function columnIn(x: unknown): string | undefined {
  return typeof x === "object" && x !== null && "column" in x && typeof x.column === "string" ? x.column : undefined;
}
export function percentIn(x: unknown): number | undefined {
  return typeof x === "object" && x !== null && "percent" in x ? Number(x.percent) : undefined;
}
export function apartIn(x: unknown): string | undefined {
  const key = "not-more-often-than";
  return typeof x === "object" && x !== null && key in x ? String((x as Record<string, unknown>)[key]) : undefined;
}

/** Takes out of a rule what says nothing: a condition without clauses, people
 * who are nobody yet. */
export function tidy(body: RuleBody): RuleBody {
  const out = structuredClone(body);
  const nothing = (c?: Condition) => c !== undefined && c.all?.length === 0;
  if (nothing(out.condition)) delete out.condition;
  if (out.then && nothing(out.then.stopIf)) delete out.then.stopIf;
  return out;
}

/** How far apart a row's emails are to be where a date recurs: nine tenths of a period of years or months,
 * so that a date that is put right after its email brings no second one. */
function apartFor(e?: Every): RuleBody["repeat"] {
  const days = e?.unit === "years" ? 365 : e?.unit === "months" ? 30 : 0;
  return e && days > 0 ? { "not-more-often-than": `P${Math.floor(0.9 * days * e.n)}D` } : undefined;
}

/** A rule whose date recurs in another way, or not at all. What was proposed with it goes with it. */
export function withEvery(b: RuleBody, every?: Every): RuleBody {
  const was = apartIn(apartFor(b.trigger.every ?? undefined));
  const proposed = b.repeat === undefined || (was !== undefined && apartIn(b.repeat) === was);
  return { ...b, trigger: { ...b.trigger, every }, repeat: proposed ? apartFor(every) : b.repeat };
}

/** What can still be said in a rule's sentence, and how it begins. */
export type More = { words: string; place: string; add: (b: RuleBody) => RuleBody };

/** A change as what is put over a rule: what it takes out is undefined. */
export function changeOf(before: RuleBody, after: RuleBody): Partial<RuleBody> {
  const gone = Object.keys(before).filter((k) => !(k in after));
  return { ...after, ...Object.fromEntries(gone.map((k) => [k, undefined])) };
}

export function moreOf(b: RuleBody, sheet: Sheet): More[] {
  const t = b.trigger;
  const then = b.then;
  const roundUp = b.groupBy !== undefined;
  const all: (More | false)[] = [
    !b.condition && {
      words: "only rows where …",
      place: "/condition",
      add: (x) => ({ ...x, condition: { all: [] } }),
    },
    t.kind === "change" &&
      !t.from && {
        words: "coming from …",
        place: "/trigger/from",
        add: (x) => ({ ...x, trigger: { ...x.trigger, from: [] } }),
      },
    t.kind === "threshold" &&
      !t.rearm && {
        words: "again only once it is back at …",
        place: "/trigger/rearm",
        add: (x) => ({ ...x, trigger: { ...x.trigger, rearm: { percent: 5 } } }),
      },
    reacts(t.kind) &&
      !t.delay && {
        words: "only some time after it …",
        place: "/trigger/delay",
        add: (x) => ({ ...x, trigger: { ...x.trigger, delay: "PT1H" } }),
      },
    t.kind === "date" &&
      !t.every && {
        words: "every year …",
        place: "/trigger/every",
        add: (x) => withEvery(x, { unit: "years", n: 1 }),
      },
    !roundUp && {
      words: "another template where …",
      place: "/send/0/if",
      add: (x) => ({ ...x, send: [{ if: { all: [] }, template: x.send[0]?.template ?? "" }, ...x.send] }),
    },
    !b.each && !roundUp && { words: "each address alone", place: "/each", add: (x) => ({ ...x, each: true }) },
    t.kind === "schedule" &&
      !roundUp && {
        words: "as one round-up …",
        place: "/groupBy",
        // Without what a round-up cannot have.
        add: (x) => ({ ...x, groupBy: "recipient", repeat: undefined, then: undefined, each: undefined }),
      },
    !b.cc && { words: "with a copy to …", place: "/cc", add: (x) => ({ ...x, cc: [{}] }) },
    !b.bcc && { words: "with a blind copy to …", place: "/bcc", add: (x) => ({ ...x, bcc: [{}] }) },
    !b.replyTo && { words: "replies to …", place: "/replyTo", add: (x) => ({ ...x, replyTo: [{}] }) },
    !roundUp &&
      !then && {
        words: "then again after …",
        place: "/then/steps/0/after",
        add: (x) => ({ ...x, then: { steps: [{ after: "P3D", template: x.send.at(-1)?.template ?? "" }] } }),
      },
    !!then && {
      words: "then again after …",
      place: `/then/steps/${then.steps.length}/after`,
      add: (x) => ({
        ...x,
        then: {
          ...x.then,
          steps: [...(x.then?.steps ?? []), { after: "P1W", template: x.then?.steps.at(-1)?.template ?? "" }],
        },
      }),
    },
    !!then &&
      !then.stopIf && {
        words: "until …",
        place: "/then/stopIf",
        add: (x) => (x.then ? { ...x, then: { ...x.then, stopIf: { all: [] } } } : x),
      },
    !b.window && { words: "only within …", place: "/window", add: (x) => ({ ...x, window: { workingDays: true } }) },
    !b.repeat &&
      !roundUp && {
        words: "and not again within …",
        place: "/repeat",
        add: (x) => ({ ...x, repeat: { "not-more-often-than": "P30D" } }),
      },
    b.sameWords !== "skip" && {
      words: "not the same words twice",
      place: "/sameWords",
      add: (x) => ({ ...x, sameWords: "skip" }),
    },
    !b.late && { words: "not later than …", place: "/late", add: (x) => ({ ...x, late: "P3D" }) },
    !holds(b) && { words: "ask first", place: "/hold", add: (x) => ({ ...x, hold: "always" }) },
    reacts(t.kind) &&
      !b.brake && {
        words: "more than … at once: hold",
        place: "/brake",
        add: (x) => ({ ...x, brake: { count: 20, share: 0.25 } }),
      },
    !b.optOut && {
      words: "email programs offer to unsubscribe",
      place: "/optOut",
      add: (x) => ({ ...x, optOut: true }),
    },
    !b.zone && { words: "in another time zone …", place: "/zone", add: (x) => ({ ...x, zone: sheet.zone }) },
  ];
  return all.filter((x) => x !== false);
}

export const holds = (b: RuleBody) => b.hold === "always" || b.hold === "first-run";

/** What a rule may be called, by when it writes. */
export function suggestedName(sheet: Sheet, body: RuleBody): string {
  const t = body.trigger;
  const column =
    sheet.columns.find((c) => c.id === t.column)?.name ?? sheet.derived.find((c) => c.id === t.column)?.name ?? "";
  switch (t.kind) {
    case "date":
      return t.offsets?.every((o) => o.n > 0) ? `After ${column}` : `${column} reminder`;
    case "change":
    case "threshold":
      return `${column} ${t.kind === "change" ? "changes" : "passes its limit"}`;
    case "added":
      return "New row";
    case "edited":
      return "Edited row";
    case "schedule":
      return "On schedule";
    case "by-hand":
      return "By hand";
    default:
      return "New rule";
  }
}
