// What an edit of many rows would set off, before it is made.
import { Dialog } from "radix-ui";
import { useState } from "react";
import { Link } from "@tanstack/react-router";
import type { Schemas, Sheet } from "../../api/client";
import { useNow } from "../../parts/session";
import { count, moment } from "../../parts/time";
import { MarkIcon } from "../../parts/mark";

type Consequences = Schemas["Consequences"];
const n = (x: number) => x.toLocaleString("en-GB");

/** Reports whether it sets off nothing. */
export const setsNothing = (c: Consequences) => c.rules.length === 0;

type Where = Pick<Sheet, "id" | "zone">;

/** What it sets off in one sentence a rule. */
export function SetsOff({ sheet, sets: c }: { sheet: Where; sets: Consequences }) {
  const now = useNow(60000);
  if (setsNothing(c)) return <p className="text-ink-2">It sets off no email, now or in the coming 60 days.</p>;
  return (
    <>
      <ul>
        {c.rules.map((r) => (
          <li key={r.rule} className="flex items-center gap-2.5 border-b border-hair-2 py-1.5">
            <MarkIcon letter={r.letter} kind={r.held > 0 || r.brake ? "held" : "coming"} />
            <Link
              to="/sheets/$sheet/rules/$rule"
              params={{ sheet: sheet.id, rule: r.rule }}
              className="font-[650] hover:underline"
            >
              {r.name}
            </Link>
            <span>{ruleWords(r)}</span>
          </li>
        ))}
      </ul>
      {c.looked < c.rows && (
        <p className="mt-1 text-ink-2">
          Calculated for the first {n(c.looked)} of {count(c.rows, "changed row")}.
        </p>
      )}
      <LineTable lines={[...c.now, ...c.coming]} from={c.now.length} zone={sheet.zone} now={now} />
    </>
  );
}

function ruleWords(r: Schemas["RuleConsequence"]): string {
  const parts: string[] = [];
  if (r.now > 0)
    parts.push(
      `${count(r.now, "email")} ${r.brake ? "at once, which the brake holds" : r.held === r.now ? "at once, held until you look" : "now"}`,
    );
  if (r.incomplete > 0) parts.push(`${n(r.incomplete)} that cannot go as the rows are`);
  if (r.new > 0) parts.push(`${n(r.new)} are new in 60 days`);
  if (r.gone > 0) parts.push(`${n(r.gone)} no longer go`);
  return parts.join("; ");
}

function LineTable({
  lines,
  from,
  zone,
  now,
}: {
  lines: Schemas["EffectLine"][];
  from: number;
  zone: string;
  now: Date;
}) {
  if (lines.length === 0) return null;
  return (
    <table className="tbl mt-3">
      <thead>
        <tr>
          <th>When</th>
          <th>Row</th>
          <th>To</th>
          <th>Subject</th>
        </tr>
      </thead>
      <tbody>
        {lines.map((l, i) => (
          <tr key={i}>
            <td className="whitespace-nowrap">
              {l.gone && <b className="text-brick">no longer goes: </b>}
              {i < from ? "at once" : moment(l.at, zone, now)}
            </td>
            <td className="whitespace-nowrap">{l.row || "a new row"}</td>
            <td className="max-w-56 truncate" title={l.to}>
              {l.to}
            </td>
            <td className="w-full max-w-0 truncate" title={l.subject || l.reason}>
              {l.outcome === "incomplete" ? <span className="text-brick">{l.reason}</span> : l.subject}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** What a change of columns, zone or calendar makes of the emails foreseen: in figures, and opened, one by one. */
export function Turned({ sheet, sets: c }: { sheet: Where; sets: Consequences }) {
  if (setsNothing(c)) return null;
  return (
    <details className="w-full">
      <summary className="cursor-pointer text-marigold">{turnWords(c)}</summary>
      <div className="mt-2 max-h-72 overflow-auto">
        <SetsOff sheet={sheet} sets={c} />
      </div>
    </details>
  );
}

/** The figures of it in a sentence. */
export function turnWords(c: Consequences): string {
  const sum = (f: (r: Consequences["rules"][number]) => number) => c.rules.reduce((k, r) => k + f(r), 0);
  const [fresh, gone] = [sum((r) => r.new), sum((r) => r.gone)];
  const parts = [
    gone > 0 ? `${count(gone, "email")} no longer ${gone === 1 ? "goes" : "go"}` : "",
    fresh > 0
      ? `${n(fresh)} ${gone > 0 ? "" : fresh === 1 ? "email " : "emails "}${fresh === 1 ? "is" : "are"} new`
      : "",
  ];
  return `In the coming 60 days ${parts.filter(Boolean).join(" and ")}${c.looked < c.rows ? `, in the first ${n(c.looked)} rows` : ""}.`;
}

/** Asks before what sheets rest on is changed, where that changes emails. */
export function AskTurn(p: { what: string; sheet: Where; sets: Consequences; onAnswer: (yes: boolean) => void }) {
  return (
    <Dialog.Root open onOpenChange={(on) => !on && p.onAnswer(false)}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-[var(--shade)]" />
        <Dialog.Content
          aria-describedby={undefined}
          className="pop fixed top-1/2 left-1/2 z-50 max-h-[86vh] w-[680px] max-w-[94vw] -translate-x-1/2 -translate-y-1/2 overflow-auto p-5"
        >
          <Dialog.Title className="font-letter text-lg! font-semibold!">{p.what}</Dialog.Title>
          <p className="mb-2">{turnWords(p.sets)}</p>
          <SetsOff sheet={p.sheet} sets={p.sets} />
          <div className="mt-4 flex flex-wrap gap-3">
            <button type="button" className="act" onClick={() => p.onAnswer(true)}>
              Change it
            </button>
            <button type="button" className="act-plain" onClick={() => p.onAnswer(false)}>
              Cancel
            </button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

export type Answer = "apply" | "hold" | "cancel";
type Props = { sheet: Sheet; what: string; sets: Consequences; onAnswer: (a: Answer) => void };

/** Asks before an edit that sets something off is made. */
export function AskFirst({ sheet, what, sets, onAnswer }: Props) {
  const [answered, setAnswered] = useState(false);
  const answer = (a: Answer) => {
    if (answered) return;
    setAnswered(true);
    onAnswer(a);
  };
  const now = sets.rules.reduce((k, r) => k + r.now, 0);
  return (
    <Dialog.Root open onOpenChange={(on) => !on && answer("cancel")}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-[var(--shade)]" />
        <Dialog.Content
          aria-describedby={undefined}
          className="pop fixed top-1/2 left-1/2 z-50 max-h-[86vh] w-[680px] max-w-[94vw] -translate-x-1/2 -translate-y-1/2 overflow-auto p-5"
        >
          <Dialog.Title className="mb-2 font-letter text-lg! font-semibold!">
            {what} would set off {now > 0 ? `${count(now, "email")} at once` : "no email at once"}.
          </Dialog.Title>
          <SetsOff sheet={sheet} sets={sets} />
          <div className="mt-4 flex flex-wrap gap-3">
            <button type="button" className="act" onClick={() => answer("apply")}>
              {now > 0 ? `Apply, and send ${count(now, "email")}` : "Apply"}
            </button>
            {now > 0 && (
              <button type="button" className="act-plain" onClick={() => answer("hold")}>
                Apply, and hold what it sets off
              </button>
            )}
            <button type="button" className="act-plain" onClick={() => answer("cancel")}>
              Cancel
            </button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
