// Sending by hand to rows that were picked: which letter, to whom, what is to be
// known before; then how far it has come.
import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";
import {
  api,
  http,
  type Rule,
  type RuleBody,
  type Schemas,
  type Sheet,
  take,
  type Template,
  words,
} from "../../api/client";
import { keys, ofEmails, ofSheet } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { Health } from "../../parts/health";
import { DurationField } from "../../parts/fields";
import { Blank, Choices } from "../../parts/picker";
import { randomId } from "../../parts/random";
import { Scroll } from "../../parts/scroll";
import { useNow } from "../../parts/session";
import { count, moment } from "../../parts/time";
import { Addresses } from "../rule/people";
import { pickedOf } from "./picked";

const page = getRouteApi("/frame/sheets/$sheet/send");

export function SendPlace(): ReactNode {
  const { sheet: id } = page.useParams();
  const sheet = api.useQuery("get", "/sheets/{sheet}", { params: { path: { sheet: id } } });
  const rules = api.useQuery("get", "/sheets/{sheet}/rules", { params: { path: { sheet: id } } });
  const templates = api.useQuery("get", "/templates");
  return (
    <Await query={sheet}>
      {(s) => (
        <Await query={rules}>
          {(r) => (
            <Await query={templates}>
              {(t) => <Sending sheet={s} all={r} templates={t.filter((x) => x.sheet === id)} />}
            </Await>
          )}
        </Await>
      )}
    </Await>
  );
}

type Draft = { template: string; to: RuleBody["to"]; each: boolean };

// The rule that does what a sending is to do, if there is one: sendings by it are
// told apart by their batches.
const ruleOf = (rules: Rule[], b: RuleBody) =>
  rules.find(
    (r) =>
      JSON.stringify(r.body.send) === JSON.stringify(b.send) &&
      JSON.stringify(r.body.to) === JSON.stringify(b.to) &&
      !!r.body.each === !!b.each &&
      JSON.stringify(r.body.condition) === JSON.stringify(b.condition) &&
      JSON.stringify(r.body.cc) === JSON.stringify(b.cc) &&
      JSON.stringify(r.body.bcc) === JSON.stringify(b.bcc) &&
      JSON.stringify(r.body.replyTo) === JSON.stringify(b.replyTo),
  );

// A name that no rule of the sheet has yet.
function freeName(rules: Rule[], name: string): string {
  const taken = new Set(rules.map((r) => r.body.name));
  let free = name;
  for (let n = 2; taken.has(free); n++) free = `${name.slice(0, 95)} ${n}`;
  return free;
}

function Sending({ sheet, all, templates }: { sheet: Sheet; all: Rule[]; templates: Template[] }) {
  const rules = all.filter((x) => x.body.trigger.kind === "by-hand");
  const navigate = useNavigate();
  const now = useNow(60000);
  const rows = pickedOf(sheet.id);
  const [ruleId, setRule] = useState(rules[0]?.id);
  const rule = rules.find((r) => r.id === ruleId);
  const [draft, setDraft] = useState<Draft>({
    template: templates[0]?.id ?? "",
    to: sheet.address ? [{ column: sheet.address }] : [],
    each: false,
  });
  const [within, setWithin] = useState("P7D");
  const [tooRecent, setTooRecent] = useState(false); // who has had it lately gets it too
  const [skips, setSkips] = useState(true); // nobody gets the same words twice
  const [batch] = useState(randomId);
  const body: RuleBody = {
    ...(rule?.body ?? {
      name: `By hand: ${templates.find((t) => t.id === draft.template)?.name ?? ""}`.slice(0, 100),
      trigger: { kind: "by-hand" },
      send: [{ template: draft.template }],
      to: draft.to,
      each: draft.each || undefined,
    }),
    sameWords: skips ? "skip" : "send",
  };
  const preview = useQuery<Schemas["SendPreview"]>({
    queryKey: [...keys.effect(sheet.id), "by hand", body, rows, within, tooRecent],
    enabled: rows.length > 0 && body.to.length > 0 && body.send.every((w) => w.template),
    placeholderData: (old) => old,
    queryFn: ({ signal }) =>
      take(
        http.POST("/sheets/{sheet}/send/preview", {
          params: { path: { sheet: sheet.id } },
          body: { body, rows, within, leaveRecent: !tooRecent },
          signal,
        }),
      ),
  });
  const left = new Set(tooRecent ? [] : preview.data?.recent.map((r) => r.rowId));
  const send = useWrite<void, { batch: string }>({
    write: async () => {
      const path = { sheet: sheet.id };
      let by = ruleOf(rules, body);
      if (!by)
        by = await take(
          http.POST("/sheets/{sheet}/rules", {
            params: { path },
            body: { body: { ...body, name: freeName(all, body.name) } },
          }),
        );
      if (by.state !== "on")
        await take(
          http.PUT("/sheets/{sheet}/rules/{rule}/state", {
            params: { path: { ...path, rule: by.id } },
            body: { state: "on" },
          }),
        );
      return http.POST("/sheets/{sheet}/rules/{rule}/send", {
        params: { path: { ...path, rule: by.id } },
        body: { batch, rows: rows.filter((r) => !left.has(r)), sameWords: skips ? "skip" : "send" },
      });
    },
    changes: [...ofEmails, ...ofSheet(sheet.id)],
    after: (r) => void navigate({ to: "/sheets/$sheet/send/$batch", params: { sheet: sheet.id, batch: r.batch } }),
    quiet: true,
  });
  const p = preview.data;
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <div className="px-5 pt-[18px] pb-3">
        <h1>
          <b>Send by hand</b> to {count(rows.length - left.size, "row")} of{" "}
          <Link to="/sheets/$sheet" params={{ sheet: sheet.id }} className="figure">
            {sheet.name}
          </Link>
          .
        </h1>
      </div>
      {rows.length === 0 ? (
        <p className="border-t border-hair px-5 py-4 text-ink-2">
          No rows are picked. Select some in the sheet, then choose “Send to these rows” below the grid.
        </p>
      ) : (
        <div className="flex min-h-0 flex-1 border-t border-hair max-lg:flex-col max-lg:overflow-auto">
          <div className="w-[440px] flex-none overflow-auto border-r border-hair px-5 pt-5 pb-4 max-lg:w-full">
            {rules.length > 0 && (
              <div className="mb-4">
                <Choices
                  name="Which sending"
                  value={ruleId ?? "new"}
                  onChoose={(r) => setRule(r === "new" ? undefined : r)}
                  items={[
                    ...rules.map((r) => ({ id: r.id, name: r.body.name, note: `rule ${r.letter}` })),
                    { id: "new", name: "another template" },
                  ]}
                />
              </div>
            )}
            {!rule && <DraftSentence sheet={sheet} templates={templates} draft={draft} onChange={setDraft} />}
            {p && (
              <Warnings
                p={p}
                within={within}
                onWithin={setWithin}
                now={now}
                zone={sheet.zone}
                tooRecent={tooRecent}
                onTooRecent={(too) => {
                  setTooRecent(too);
                  setSkips(!too); // else it would be skipped for the same words
                }}
                skips={skips}
                onSkips={setSkips}
              />
            )}
            {preview.error && (
              <p role="alert" className="mt-2 text-marigold">
                {words(preview.error)}
              </p>
            )}
            <p role="alert" className="mt-2 min-h-5 text-brick">
              {send.failed?.title}
            </p>
            <button
              type="button"
              className="act"
              disabled={!p || p.emails === 0 || send.busy || preview.isPlaceholderData}
              onClick={() => void send.do()}
            >
              {p ? `Send ${count(p.emails, "email")} to ${count(p.people, "person", "people")} now` : "Send"}
            </button>
          </div>
          <Scroll label="The emails" className="min-w-0 flex-1 bg-sheet px-6.5 pt-5 pb-6">
            {p && (
              <>
                <h2 className="mb-1">The first of them</h2>
                <table className="tbl">
                  <thead>
                    <tr>
                      <th>Row</th>
                      <th>To</th>
                      <th>Subject</th>
                    </tr>
                  </thead>
                  <tbody>
                    {p.lines.map((l, i) => (
                      <tr key={i}>
                        <td className="whitespace-nowrap">{l.row}</td>
                        <td className="max-w-64 truncate">{l.to || <span className="bad">no address</span>}</td>
                        <td className="w-full max-w-0 truncate">
                          {l.outcome === "incomplete" ? (
                            <span className="text-brick">{l.reason}</span>
                          ) : l.outcome === "skip" ? (
                            <span className="text-ink-2">{l.reason}</span>
                          ) : (
                            l.subject
                          )}
                        </td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              </>
            )}
            <Past sheet={sheet} />
          </Scroll>
        </div>
      )}
    </div>
  );
}

type DraftProps = { sheet: Sheet; templates: Template[]; draft: Draft; onChange: (d: Draft) => void };
function DraftSentence({ sheet, templates, draft, onChange }: DraftProps) {
  const emails = sheet.columns.filter((c) => c.type === "email");
  const who = draft.to
    .map((a) =>
      a.column ? sheet.columns.find((c) => c.id === a.column)?.name.toLowerCase() : (a.address ?? a.person),
    )
    .join(" and ");
  return (
    <p className="font-letter text-[19px] leading-[34px]">
      Write{" "}
      <Blank
        title="Which template"
        label="Template"
        words={templates.find((t) => t.id === draft.template)?.name ?? "…"}
      >
        <Choices
          name="template"
          value={draft.template}
          onChoose={(template) => onChange({ ...draft, template })}
          items={templates.map((t) => ({ id: t.id, name: t.name }))}
        />
      </Blank>{" "}
      to{" "}
      <Blank title="To" label="To" words={who || "…"}>
        <Addresses columns={emails} value={draft.to} onChange={(to) => onChange({ ...draft, to })} />
      </Blank>
      ,{" "}
      <Blank
        title="To several addresses of a row"
        label="Together or alone"
        words={draft.each ? "each alone" : "together"}
      >
        <Choices
          name="each"
          value={draft.each ? "alone" : "together"}
          onChoose={(x) => onChange({ ...draft, each: x === "alone" })}
          items={[
            { id: "together", name: "together, in one email" },
            { id: "alone", name: "each alone" },
          ]}
        />
      </Blank>
      .
    </p>
  );
}

type WarningProps = {
  p: Schemas["SendPreview"];
  within: string;
  onWithin: (d: string) => void;
  now: Date;
  zone: string;
  tooRecent: boolean;
  onTooRecent: (to: boolean) => void;
  skips: boolean;
  onSkips: (s: boolean) => void;
};
// What is to be known before it goes.
function Warnings({ p, within, onWithin, now, zone, tooRecent, onTooRecent, skips, onSkips }: WarningProps) {
  const skipped = p.skipped.reduce((n, s) => n + s.emails, 0);
  return (
    <ul className="mt-4 flex flex-col gap-2 border-t border-hair-2 pt-3">
      {p.incomplete > 0 && (
        <li className="text-brick">
          {count(p.incomplete, "row is", "rows are")} incomplete: the email waits, and goes by itself once the cell is
          filled, within the late limit.
        </li>
      )}
      {p.tooLarge > 0 && (
        <li className="text-brick">
          {count(p.tooLarge, "email is", "emails are")} larger than the sender’s mail server takes, and cannot go.
        </li>
      )}
      {p.waiting > 0 && (
        <li className="text-marigold">
          {count(p.waiting, "email of an earlier sending waits", "emails of earlier sendings wait")} for these rows
          already; {p.waiting === 1 ? "it is" : "they are"} replaced.
        </li>
      )}
      {p.byRules.map((r) => (
        <li key={r.letter} className="text-marigold">
          {count(r.emails, "email", "emails")} in the same words {r.emails === 1 ? "waits" : "wait"} for these rows by
          rule {r.letter}, {r.name}, and {r.emails === 1 ? "goes" : "go"} too.
        </li>
      ))}
      {skipped > 0 && <li>Skipped: {p.skipped.map((s) => `${s.emails} (${s.reason})`).join(", ")}.</li>}
      {p.doubled.length > 0 && (
        <li className="text-marigold">
          {count(p.doubled.length, "address gets", "addresses get")} several:{" "}
          {p.doubled
            .slice(0, 4)
            .map((d) => `${d.address} (${d.emails})`)
            .join(", ")}
          {p.doubled.length > 4 && " …"}
        </li>
      )}
      <li className="flex flex-wrap items-center gap-1.5">
        <span className={p.recent.length > 0 ? "text-marigold" : "text-ink-2"}>
          {p.recent.length > 0 ? `${count(p.recent.length, "row has", "rows have")}` : "No row has"} had this email
          within
        </span>
        <DurationField label="Within" value={within} onChange={onWithin} of={["hours", "days", "weeks"]} />
        {p.recent.length > 0 && (
          <>
            <span className="text-ink-2">
              (
              {p.recent
                .slice(0, 3)
                .map((r) => `${r.row}, ${moment(r.at, zone, now)}`)
                .join("; ")}
              {p.recent.length > 3 && " …"})
            </span>
            <span>{tooRecent ? "They get it too;" : "They get it no second time;"}</span>
            <button type="button" className="link" onClick={() => onTooRecent(!tooRecent)}>
              {tooRecent ? "don’t send to them" : "send to them too"}
            </button>
          </>
        )}
      </li>
      <li className="text-ink-2">
        {skips ? "Nobody gets the same words twice within twelve hours;" : "The same words may go to somebody twice;"}{" "}
        <button type="button" className="link" onClick={() => onSkips(!skips)}>
          {skips ? "send them twice" : "not twice"}
        </button>
      </li>
      {p.cap > 0 && (
        <li className={p.people > p.left ? "text-marigold" : "text-ink-2"}>
          {p.sender} may reach {p.cap.toLocaleString("en-GB")} people a day; {p.left.toLocaleString("en-GB")} are left
          today
          {p.people > p.left && ", and what is over goes the next days"}.
        </li>
      )}
    </ul>
  );
}

const outcomes: [string, string][] = [
  ["accepted", "accepted"],
  ["queued", "on their way"],
  ["claimed", "on their way"],
  ["sending", "on their way"],
  ["deferred", "deferred"],
  ["held", "held"],
  ["incomplete", "incomplete"],
  ["skipped", "skipped"],
  ["failed", "refused"],
  ["bounced", "refused"],
  ["in-doubt", "in doubt"],
  ["dropped", "stopped"],
  ["missed", "missed"],
];
function countWords(counts: Record<string, number>): string {
  const by = new Map<string, number>();
  for (const [state, word] of outcomes) {
    const n = counts[state];
    if (n) by.set(word, (by.get(word) ?? 0) + n);
  }
  return [...by].map(([word, n]) => `${n.toLocaleString("en-GB")} ${word}`).join(", ");
}

// The sendings by hand before.
function Past({ sheet }: { sheet: Sheet }) {
  const now = useNow(60000);
  const q = api.useQuery("get", "/sheets/{sheet}/batches", { params: { path: { sheet: sheet.id } } });
  if (!q.data?.length) return null;
  return (
    <>
      <h2 className="mt-5 mb-1">Sent by hand before</h2>
      <ul>
        {q.data.map((b) => (
          <li key={b.id} className="flex gap-3 border-b border-hair-2 py-1">
            <Link to="/sheets/$sheet/send/$batch" params={{ sheet: sheet.id, batch: b.id }} className="link">
              {moment(b.at, sheet.zone, now)}
            </Link>
            <span>
              {b.ruleName}, {count(b.total, "row")}, by {b.by}
            </span>
            <span className="text-ink-2">{countWords(b.counts)}</span>
          </li>
        ))}
      </ul>
    </>
  );
}

const batchPage = getRouteApi("/frame/sheets/$sheet/send/$batch");

/** One sending by hand: how far it has come, a stop, and those that failed. */
export function BatchPlace(): ReactNode {
  const path = batchPage.useParams();
  const sheet = api.useQuery("get", "/sheets/{sheet}", { params: { path: { sheet: path.sheet } } });
  const q = api.useQuery("get", "/sheets/{sheet}/batches/{batch}", { params: { path } }, { refetchInterval: 1000 });
  return <Await query={sheet}>{(s) => <Await query={q}>{(b) => <BatchPage sheet={s} batch={b} />}</Await>}</Await>;
}

function BatchPage({ sheet, batch: b }: { sheet: Sheet; batch: Schemas["Batch"] }) {
  const now = useNow(60000);
  const path = { sheet: sheet.id, batch: b.id };
  const changes = [["get", "/sheets/{sheet}/batches/{batch}"], ["get", "/sheets/{sheet}/batches"], ...ofEmails];
  const stop = useWrite<void, { emails: number }>({
    write: () => http.POST("/sheets/{sheet}/batches/{batch}/stop", { params: { path } }),
    changes,
    saved: (r) => `Stopped. ${count(r.emails, "email")} that had not gone stay unsent.`,
  });
  const again = useWrite<void, { emails: number }>({
    write: () => http.POST("/sheets/{sheet}/batches/{batch}/again", { params: { path } }),
    changes,
    saved: (r) => `${count(r.emails, "email is", "emails are")} on the way again.`,
  });
  const waiting =
    (b.counts.queued ?? 0) + (b.counts.deferred ?? 0) + (b.counts.claimed ?? 0) + (b.counts.sending ?? 0);
  const failed = (b.counts.failed ?? 0) + (b.counts.bounced ?? 0);
  const gone = Object.values(b.counts).reduce((n, k) => n + k, 0) - waiting;
  return (
    <div className="flex min-h-0 flex-1 flex-col px-5 pt-[18px]">
      <h1>
        <b>{b.ruleName}</b>, sent by hand {moment(b.at, sheet.zone, now)} by {b.by} to {count(b.total, "row")} of{" "}
        <Link to="/sheets/$sheet" params={{ sheet: sheet.id }} className="figure">
          {sheet.name}
        </Link>
        .
      </h1>
      <div className="mt-4 max-w-xl">
        <progress
          className="h-2 w-full accent-juniper"
          max={Math.max(1, b.total)}
          value={Math.min(b.total, b.running ? Math.min(b.done, gone) : gone)}
        />
        <p className="mt-1" role="status">
          {b.running ? `${b.done.toLocaleString("en-GB")} of ${count(b.total, "row")} written. ` : ""}
          {countWords(b.counts) || "Nothing has gone yet"}
          {b.stopped && `. Stopped by ${b.stoppedBy}`}.
        </p>
        {b.sender && <Health sender={b.sender} />}
        {(b.counts.incomplete ?? 0) > 0 && (
          <p className="text-marigold">
            What is incomplete goes by itself once its row is fixed, within the late limit; the log says until when.
          </p>
        )}
      </div>
      <div className="mt-4 flex gap-3">
        {(b.running || waiting > 0) && !b.stopped && (
          <button type="button" className="act-plain text-brick!" disabled={stop.busy} onClick={() => void stop.do()}>
            Stop: {(b.total - b.done + waiting).toLocaleString("en-GB")} have not gone
          </button>
        )}
        {failed > 0 && (
          <button type="button" className="act" disabled={again.busy} onClick={() => void again.do()}>
            Retry the {failed.toLocaleString("en-GB")} that failed
          </button>
        )}
        <Link to="/log" search={{ sheet: sheet.id, rule: b.rule }} className="act-plain">
          Look at them in the log
        </Link>
      </div>
    </div>
  );
}
