import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { base } from "../../api/base";
import { api, http, words } from "../../api/client";
import { ofEmails } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { MarkIcon } from "../../parts/mark";
import { useMay, useNow, useZone } from "../../parts/session";
import { Section, Slip } from "../../parts/slip";
import { useWhy, Why } from "../rule/why";
import { dayName, moment, seconds } from "../../parts/time";
import { Said, WrittenBy } from "./said";

const actionWords = {
  "it-went": "Mark as sent",
  "send-again": "Send again",
  "leave-it": "Leave it",
  approve: "Send",
  drop: "Don’t send",
} as const;

// Each part of the rule's sentence with the row's value, as both are now.
function PartByPart({ sheet, rule, row, zone }: { sheet: string; rule: string; row: string; zone: string }) {
  const [open, setOpen] = useState(false);
  const q = api.useQuery(
    "get",
    "/sheets/{sheet}/rules/{rule}",
    { params: { path: { sheet, rule } } },
    { enabled: open, retry: false },
  );
  const why = useWhy(sheet, q.data?.body, rule, row);
  const failed = q.error ?? why.error;
  return (
    <details className="mt-1" open={open} onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="link inline cursor-pointer">Part by part, as the row is now</summary>
      {failed && <p className="mt-1 text-ink-2">{words(failed)}</p>}
      {why.data && (
        <div className="mt-1.5">
          <Why why={why.data} sheet={{ zone }} />
        </div>
      )}
    </details>
  );
}

// The slip of one email: what it said, why, and what became of it.
export function DeliverySlip({ id, onClose }: { id: string; onClose: () => void }) {
  const q = api.useQuery("get", "/deliveries/{delivery}", { params: { path: { delivery: id } } });
  const zone = useZone();
  const now = useNow();
  const may = useMay("coordinator");
  const decide = useWrite({
    write: (decision: keyof typeof actionWords) =>
      http.POST("/deliveries/{delivery}/decision", { params: { path: { delivery: id } }, body: { decision } }),
    changes: ofEmails,
  });
  if (!q.data)
    return (
      <Slip title="Email" onClose={onClose}>
        <Await query={q} />
      </Slip>
    );
  const d = q.data;
  const l = d.line;
  const went = ["accepted", "queued", "claimed", "sending", "deferred", "failed", "bounced", "in-doubt"].includes(
    l.state,
  );
  return (
    <Slip
      title={l.subject || `${l.rule}, ${l.row}`}
      onClose={onClose}
      head={
        <>
          <MarkIcon letter={l.letter} kind={l.kind} />
          <span>
            <b className="text-ink">{l.rule}</b>, row{" "}
            <Link to="/sheets/$sheet" params={{ sheet: l.sheetId }} search={{ row: l.rowId }} className="link">
              {l.row || "deleted"}
            </Link>
          </span>
        </>
      }
      foot={
        <>
          {may &&
            d.actions.map((a) => (
              <button
                key={a}
                type="button"
                className={a === "send-again" || a === "approve" ? "act" : "act-plain"}
                disabled={decide.busy}
                onClick={() => void decide.do(a)}
              >
                {a === "send-again" && d.to.length > 0
                  ? `Send again to ${d.to.length === 1 ? "1 address" : `${d.to.length} addresses`}`
                  : actionWords[a]}
              </button>
            ))}
          {d.html && (
            <a
              className="link"
              href={`${base}/api/deliveries/${id}/message.eml`}
              download={`${d.occasion.slice(0, 12)}.eml`}
            >
              Download .eml
            </a>
          )}
        </>
      }
    >
      <h2 className="mt-1 mb-1 font-letter text-lg! leading-6 font-semibold!">
        {l.subject || (l.state === "skipped" ? "Nothing was written" : "Not written yet")}
      </h2>
      <p className="border-b border-hair pb-3 text-ink-2">
        {d.to.length === 0 && "to nobody"}
        {d.to.map((to, i) => (
          <span key={to}>
            {i === 0 ? "to " : ", "}
            <Link
              to="/log"
              search={{ to: addressIn(to) }}
              className="hover:underline"
              title="All that went to it, and is to come"
            >
              {to}
            </Link>
          </span>
        ))}
        {d.cc.length > 0 && `, Cc ${d.cc.join(", ")}`}
        {d.replyTo.length > 0 && `, Reply-To ${d.replyTo.join(", ")}`}
        {d.from && `, from ${d.from}`} ·{" "}
        <time dateTime={l.at} title={l.at}>
          {moment(l.at, zone, now)}
        </time>
      </p>
      {d.html && <Said html={d.html} text={d.text} files={d.files} />}
      <Section
        title={
          went
            ? "Why it went"
            : l.state === "skipped" || l.state === "dropped"
              ? "Why it did not go"
              : "Why it has not gone"
        }
      >
        <p className="font-letter text-sm leading-[21px]">{d.why}</p>
        {l.until && (
          <p className="text-marigold">
            It goes by itself once that is fixed, until {moment(l.until, zone, now)}.{" "}
            <Link to="/sheets/$sheet" params={{ sheet: l.sheetId }} search={{ row: l.rowId }} className="link">
              Open the row
            </Link>
          </p>
        )}
        <details className="mt-1">
          <summary className="link inline cursor-pointer">The row’s values then</summary>
          <dl className="mt-1 grid grid-cols-[140px_1fr] gap-x-3">
            {d.facts.map((f) => (
              <div key={f.name} className="contents">
                <dt className="text-ink-2">{f.name}</dt>
                <dd>{f.value || <span className="text-ink-2">empty</span>}</dd>
              </div>
            ))}
          </dl>
        </details>
        {l.rowId && <PartByPart sheet={l.sheetId} rule={l.ruleId} row={l.rowId} zone={zone} />}
      </Section>
      <Section title="What became of it">
        <ol className="grid grid-cols-[96px_1fr] gap-x-3 gap-y-0.5">
          {d.events.map((e, i) => (
            <li key={i} className="contents">
              <time dateTime={e.at} title={e.at}>
                {headOf(e.at, d.events[i - 1]?.at, zone, now)}
              </time>
              <span>
                {e.what}
                {e.actor !== "nivot" && `, by ${e.actor}`}{" "}
                {e.reply && <span className="font-mono text-[10.5px] text-ink-2">{e.reply}</span>}
              </span>
            </li>
          ))}
        </ol>
        {d.recipients.some((r) => r.state === "bounced" || r.state === "deferred") &&
          d.recipients.map((r) => (
            <p key={r.mailbox}>
              {r.mailbox}: {r.state || "not tried"}{" "}
              <span className="font-mono text-[10.5px] text-ink-2">{r.reply}</span>
            </p>
          ))}
      </Section>
      <Section title="For the record">
        {d.template && <WrittenBy by={d.template} sheet={l.sheetId} />}
        <p className="font-mono text-[10.5px] leading-[17px] break-all text-ink-2">
          occasion {d.occasion.replace(/(.{4})(?=.)/g, "$1 ")} · attempt {d.attempt}
          <br />
          {d.messageId}
        </p>
      </Section>
    </Slip>
  );
}

// When something happened: with its weekday where that is another than before.
function headOf(at: string, before: string | undefined, zone: string, now: Date): string {
  const day = dayName(at, zone, now);
  if (before && dayName(before, zone, now) === day) return seconds(at, zone);
  return `${day.split(" ")[0]} ${seconds(at, zone)}`;
}

// The address in "Name <address>".
const addressIn = (mailbox: string) => /<([^>]+)>$/.exec(mailbox)?.[1] ?? mailbox;
