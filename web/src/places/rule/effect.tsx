// What a rule would do in the coming days, before it is switched on; of one that
// is on, what a change of it changes.
import { useQuery } from "@tanstack/react-query";
import { durationWords } from "../../parts/duration";
import { Link } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";
import { http, type Rule, type RuleBody, type Schemas, type Sheet, take, words } from "../../api/client";
import { keys } from "../../api/keys";
import { LetterFrame } from "../../parts/letter";
import { Slip } from "../../parts/slip";
import { count, dayOfMonth, daysFrom, isoDay, moment, shortMonth, weekday } from "../../parts/time";
import { useKey } from "../../parts/shortcuts";

export type Effect = Schemas["Effect"];
type Line = Schemas["EffectLine"];

type Props = {
  e: Effect;
  stale: boolean;
  sheet: Sheet;
  rule?: Rule;
  body: RuleBody;
  now: Date;
  zone: string;
  today?: string;
  onToday: (day: string | undefined) => void;
};

export function EffectView(p: Props) {
  const { e, sheet, body, now, zone, today, onToday, stale } = p;
  const [open, setOpen] = useState<number>();
  const foresees =
    e.days.some((d) => d.emails > 0) || body.trigger.kind === "date" || body.trigger.kind === "schedule";
  return (
    <div className={stale ? "opacity-70" : undefined} aria-busy={stale}>
      <h2 className="mb-1.5 flex flex-wrap items-baseline gap-x-2.5">
        The coming 60 days{" "}
        <small className="text-xs font-[450] text-ink-2">
          <Matching {...p} />
        </small>
        <span className="ml-auto flex items-baseline gap-2 text-xs font-[450] text-ink-2">
          as if today were
          <input
            type="date"
            className="field min-h-0! px-1! py-0! text-xs"
            aria-label="As if today were"
            value={today ?? isoDay(now, zone)}
            onChange={(ev) =>
              onToday(ev.target.value && ev.target.value !== isoDay(now, zone) ? ev.target.value : undefined)
            }
          />
          {today && (
            <button type="button" className="link" onClick={() => onToday(undefined)}>
              today
            </button>
          )}
        </span>
      </h2>
      {foresees ? (
        <>
          <Bars e={e} now={today ? new Date(`${today}T12:00:00Z`) : now} zone={zone} />
          <Legend e={e} />
        </>
      ) : (
        <p className="text-ink-2">
          {body.trigger.kind === "by-hand"
            ? "It goes to the rows that somebody picks in the sheet."
            : "What edits will bring cannot be foreseen; try a row below to see what it would get."}
        </p>
      )}
      <Besides e={e} sheet={sheet} body={body} />
      {p.rule?.state === "on" && e.change && <Changes {...p} change={e.change} />}
      {foresees && (
        <>
          <h2 className="mt-3.5 mb-1">The first of them</h2>
          {e.first.length === 0 ? (
            <p className="text-ink-2">None in 60 days.</p>
          ) : (
            <Lines lines={e.first} sheet={sheet} now={now} zone={zone} onOpen={setOpen} />
          )}
        </>
      )}
      {open !== undefined && e.first[open] && (
        <EmailSlip
          {...p}
          line={e.first[open]}
          index={open}
          total={e.first.length}
          onLeaf={setOpen}
          onClose={() => setOpen(undefined)}
        />
      )}
    </div>
  );
}

// How many rows match, leading to exactly these.
function Matching({ e, sheet, body }: Pick<Props, "e" | "sheet" | "body">) {
  const figure = `${e.rows.toLocaleString("en-GB")} of ${count(e.total, "row")}`;
  return (
    <>
      {body.condition ? (
        <Link
          to="/sheets/$sheet"
          params={{ sheet: sheet.id }}
          search={{ show: { filter: body.condition } }}
          className="figure"
        >
          {figure}
        </Link>
      ) : (
        figure
      )}{" "}
      match now{e.partial && "; counted so far, the rest is coming"}
    </>
  );
}

const plus = (n: number, one: string, many = `${one}s`) =>
  n > 0 ? [`${n.toLocaleString("en-GB")} ${n === 1 ? one : many}`] : [];

// What stands beside the emails that go: incomplete, held, moved, over the cap, skipped.
function Besides({ e, sheet, body }: Pick<Props, "e" | "sheet" | "body">) {
  const over = e.days.reduce((n, d) => Math.max(n, d.over), 0);
  const first = e.days.find((d) => d.over > 0);
  const parts = [
    ...plus(e.incomplete, "is incomplete and cannot go out yet", "are incomplete and cannot go out yet"),
    ...plus(e.held, "waits for review", "wait for review"),
    ...plus(e.moved, "is moved by the send window", "are moved by the send window"),
  ];
  const waits = body.hold === "first-run" && e.emails > 0 ? ["the first run waits for review"] : [];
  const skipped = e.skipped.reduce((n, s) => n + s.emails, 0);
  const limit = e.limit && e.limit.emails > 0 ? e.limit : undefined;
  if (parts.length + waits.length + skipped + over + e.unjudged === 0 && !limit) return null;
  return (
    <ul className="mt-2 text-ink-2">
      {parts.length + waits.length > 0 && <li>Of these, {[...parts, ...waits].join("; ")}.</li>}
      {first && (
        <li className="text-marigold">
          {e.sender} may reach {e.cap.toLocaleString("en-GB")} people a day: on {first.day}{" "}
          {count(first.over, "recipient")} too many wait for the next day.
        </li>
      )}
      {limit && (
        <li className="text-marigold">
          {count(limit.emails, "email")} to{" "}
          {limit.people === 1 ? limit.first[0] : count(limit.people, "person", "people")}
          {limit.people > 1 &&
            ` (${limit.first.join(", ")}${limit.people > limit.first.length ? " and more" : ""})`}{" "}
          {limit.skip ? "will be skipped" : "will wait"}: nobody gets more than {limit.n} within{" "}
          {durationWords(limit.within)}.
        </li>
      )}
      {skipped > 0 && (
        <li>
          Skipped as the rows are now:{" "}
          {e.skipped.map((s) => `${s.emails.toLocaleString("en-GB")} (${s.reason})`).join(", ")}.
        </li>
      )}
      {e.unjudged > 0 && (
        <li>
          {count(e.unjudged, "row")} of {sheet.name} cannot be judged: something that the sentence looks at is empty or
          cannot be read.
        </li>
      )}
    </ul>
  );
}

type LinesProps = {
  lines: Line[];
  sheet: Sheet;
  now: Date;
  zone: string;
  signs?: boolean;
  onOpen?: (i: number) => void;
};
function Lines({ lines, sheet, now, zone, signs, onOpen }: LinesProps) {
  return (
    <table className="tbl">
      <thead>
        <tr>
          {signs && (
            <th>
              <span className="sr-only">New or gone</span>
            </th>
          )}
          <th>When</th>
          <th>Row</th>
          <th>To</th>
          <th>Subject</th>
        </tr>
      </thead>
      <tbody>
        {lines.map((l, i) => (
          <tr key={i}>
            {signs && (
              <td className={`w-4 font-bold ${l.gone ? "text-brick" : "text-juniper"}`}>
                <span aria-hidden>{l.gone ? "−" : "+"}</span>
                <span className="sr-only">{l.gone ? "no longer goes" : "is new"}</span>
              </td>
            )}
            <td className="whitespace-nowrap">{moment(l.at, zone, now)}</td>
            <td className="whitespace-nowrap">
              {l.rows ? (
                count(l.rows, "row")
              ) : (
                <Link
                  to="/sheets/$sheet"
                  params={{ sheet: sheet.id }}
                  search={{ row: l.rowId }}
                  className="hover:underline"
                >
                  {l.row}
                </Link>
              )}
            </td>
            <td className="max-w-56 truncate" title={l.to}>
              {l.to || <span className="bad">no address</span>}
            </td>
            <td className="w-full max-w-0 truncate" title={l.subject || l.reason}>
              {l.outcome === "incomplete" ? (
                <span className="text-brick">{l.reason}</span>
              ) : onOpen ? (
                <button
                  type="button"
                  className="max-w-full truncate text-left hover:underline"
                  onClick={() => onOpen(i)}
                >
                  {l.subject || "no subject"}
                </button>
              ) : (
                l.subject
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

// What is new and what no longer goes against the rule as it runs now.
function Changes({ change: c, sheet, now, zone }: Props & { change: Schemas["EffectChange"] }) {
  if (c.new + c.gone === 0) return null;
  return (
    <>
      <h2 className="mt-3.5 mb-1">
        What changes against the rule as it runs now{" "}
        <small className="ml-1.5 text-xs font-[450] text-ink-2">
          {c.new.toLocaleString("en-GB")} are new, {c.gone.toLocaleString("en-GB")} no longer go, for{" "}
          {count(c.rows, "row")}
        </small>
      </h2>
      <Lines lines={c.lines} sheet={sheet} now={now} zone={zone} signs />
      {c.lines.length < c.new + c.gone && <p className="mt-1 text-ink-2">The first {c.lines.length} of them.</p>}
    </>
  );
}

// A foreseen email as its recipients would get it, leafed through.
type SlipProps = Props & {
  line: Line;
  index: number;
  total: number;
  onLeaf: (i: number) => void;
  onClose: () => void;
};
function EmailSlip({ sheet, body, today, line, index, total, onLeaf, onClose, now, zone }: SlipProps) {
  const to = line.rows ? line.to : undefined;
  const email = useQuery({
    queryKey: [...keys.foreseen(sheet.id), body, line.rowId, line.at, line.step, to, today],
    queryFn: () =>
      take(
        http.POST("/sheets/{sheet}/rules/email", {
          params: { path: { sheet: sheet.id } },
          body: { body, row: line.rowId, at: line.at, step: line.step, to, today },
        }),
      ),
  });
  const leaf = (by: number) => onLeaf(Math.max(0, Math.min(total - 1, index + by)));
  useKey(",", () => leaf(-1));
  useKey(".", () => leaf(1));
  const d = email.data;
  const people: [string, string | undefined][] = [
    ["to", d?.to],
    ["Cc", d?.cc],
    ["Bcc", d?.bcc],
    ["Reply-To", d?.replyTo],
  ];
  return (
    <Slip
      title="A coming email"
      onClose={onClose}
      wide
      head={
        <>
          <span>
            {index + 1} of {total}
          </span>
          <button type="button" className="link" disabled={index === 0} onClick={() => leaf(-1)}>
            previous
            <kbd className="key" aria-hidden>
              ,
            </kbd>
          </button>
          <button type="button" className="link" disabled={index >= total - 1} onClick={() => leaf(1)}>
            next
            <kbd className="key" aria-hidden>
              .
            </kbd>
          </button>
        </>
      }
    >
      {email.error && (
        <p role="alert" className="text-brick">
          {words(email.error)}
        </p>
      )}
      {d && (
        <>
          <h2 className="mb-1 font-letter text-[17px]!">{d.subject || "no subject"}</h2>
          <p className="text-ink-2">
            {moment(line.at, zone, now)}, {line.rows ? count(line.rows, "row") : line.row}
          </p>
          {people.map(
            ([word, who]) =>
              who && (
                <p key={word} className="text-ink-2">
                  {word} {who}
                </p>
              ),
          )}
          <p className="mt-1 mb-3">
            {d.outcome === "incomplete" ? <span className="text-brick">{d.reason}</span> : `Because ${d.reason}.`}
          </p>
          {d.html && <LetterFrame html={d.html} title="The email" height={420} />}
        </>
      )}
    </Slip>
  );
}

// The shades of the wordings, in their order.
const shades = ["var(--marigold-fill)", "var(--marigold)", "var(--juniper)", "var(--plum)", "var(--ink-2)"];
// Follow-ups are drawn open, so that not colour alone tells them.
function fillOf(w: Schemas["EffectWording"], i: number) {
  const colour = shades[i % shades.length];
  return w.step > 0 ? { fill: "var(--sheet)", stroke: colour, strokeWidth: 1.2 } : { fill: colour, stroke: "none" };
}

function Legend({ e }: { e: Effect }): ReactNode {
  if (e.wordings.length === 0) return null;
  return (
    <ul className="mt-0.5 flex flex-wrap gap-x-4 text-xs text-ink-2">
      {e.wordings.map((w, i) => (
        <li key={`${w.template}${w.step}`} className="flex items-center gap-1.5">
          <svg width={10} height={10} aria-hidden>
            <rect x={1} y={1} width={8} height={8} {...fillOf(w, i)} />
          </svg>
          {w.name || "no template"}
          {w.step > 0 && `, follow-up ${w.step}`}: {w.emails.toLocaleString("en-GB")}
        </li>
      ))}
      {e.days.some((d) => d.over > 0) && (
        <li className="flex items-center gap-1.5">
          <svg width={10} height={10} aria-hidden>
            <line x1={1} x2={9} y1={3} y2={3} stroke="var(--brick)" strokeWidth={2} />
          </svg>
          over the daily cap
        </li>
      )}
    </ul>
  );
}

function Bars({ e, now, zone }: { e: Effect; now: Date; zone: string }) {
  const { days } = e;
  const w = 640;
  const top = Math.max(4, ...days.map((d) => d.emails));
  const x = (d: number) => 8 + (d * (w - 16)) / days.length;
  const here = x(daysFrom(days[0]?.day ?? isoDay(now, zone), days.length, zone).at(now.getTime()));
  return (
    <svg
      viewBox={`0 0 ${w} 96`}
      className="block w-full max-w-3xl"
      role="img"
      aria-label={`${days.reduce((n, d) => n + d.emails, 0)} emails in the coming 60 days`}
    >
      {days.map(
        ({ day }, d) =>
          weekday(day) === 6 && (
            <rect
              key={day}
              x={x(d)}
              y={0}
              width={Math.min(x(d + 2), w - 8) - x(d)}
              height={76}
              fill="var(--weekend)"
            />
          ),
      )}
      {days.map((day, d) => (
        <Bar key={day.day} day={day} wordings={e.wordings} x={x(d) + 2} unit={66 / top} />
      ))}
      <line x1={8} x2={w - 8} y1={70.5} y2={70.5} stroke="var(--hair)" />
      <line x1={here} x2={here} y1={0} y2={76} stroke="var(--ink)" strokeWidth={1.2} />
      <text x={x(0)} y={90} fontSize={11} fontWeight={700} fill="var(--ink)">
        now
      </text>
      {days.map(
        ({ day }, d) =>
          d > 3 &&
          weekday(day) === 1 && (
            <text key={day} x={x(d) + 5} y={90} textAnchor="middle" fontSize={11} fill="var(--ink-2)">
              {dayOfMonth(day) <= 7 ? `${dayOfMonth(day)} ${shortMonth(day)}` : dayOfMonth(day)}
            </text>
          ),
      )}
    </svg>
  );
}

// A day's emails, one wording on the other.
function Bar({
  day,
  wordings,
  x,
  unit,
}: {
  day: Schemas["EffectDay"];
  wordings: Schemas["EffectWording"][];
  x: number;
  unit: number;
}) {
  if (day.emails === 0 && day.over === 0) return null;
  const below = (i: number) => day.by.slice(0, i + 1).reduce((n, k) => n + k, 0);
  return (
    <g>
      <title>{`${day.day}: ${count(day.emails, "email")}${day.over > 0 ? `, ${count(day.over, "recipient")} over the cap` : ""}`}</title>
      {day.by.map((n, i) => {
        const w = wordings[i];
        if (n === 0 || !w) return null;
        return <rect key={i} x={x} y={70.5 - below(i) * unit} width={6.6} height={n * unit} {...fillOf(w, i)} />;
      })}
      {day.over > 0 && (
        <line
          x1={x - 1}
          x2={x + 7.6}
          y1={70.5 - day.emails * unit - 2}
          y2={70.5 - day.emails * unit - 2}
          stroke="var(--brick)"
          strokeWidth={2}
        />
      )}
    </g>
  );
}
