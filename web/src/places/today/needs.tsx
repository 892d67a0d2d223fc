// What needs somebody: what is held, in doubt or failed, and rows and sources that are not in order.
import type { ReactNode } from "react";
import { Link, useNavigate } from "@tanstack/react-router";
import { http, type Schemas } from "../../api/client";
import { keys, ofEmails } from "../../api/keys";
import { useWrite } from "../../api/write";
import { MarkIcon } from "../../parts/mark";
import { useMay } from "../../parts/session";
import { count, upperFirst } from "../../parts/time";
import { doubledRows } from "../sheets/view";

type Today = Schemas["Today"];

const noticeHeads: Record<Schemas["Notice"]["kind"], string> = {
  "went-back": "An older copy of the database.",
  clock: "A clock is wrong.",
  engine: "Nothing is judged or sent.",
  sender: "A sender cannot send.",
};

/** What keeps all emails from going, and the way through it. */
function NoticeLine({ notice }: { notice: Schemas["Notice"] }) {
  const may = useMay("coordinator");
  const looked = useWrite({
    write: () => http.POST("/went-back/looked"),
    saved: "Noted. What is held stays so until you send it; rules and sending are switched on again by you.",
    changes: [keys.session, ...ofEmails],
  });
  return (
    <li className="flex items-start gap-3.5 border-b border-hair-2 py-2 max-[899px]:flex-wrap" role="alert">
      <span className="w-[18px] flex-none text-center font-bold text-brick" aria-hidden="true">
        !
      </span>
      <span className="min-w-0 flex-1">
        <b className="font-semibold">{noticeHeads[notice.kind]}</b> {notice.text}
        {notice.kind === "went-back" && (
          <>
            {" "}
            First review{" "}
            <Link to="/log" search={{ show: "held" }} className="link">
              {notice.held === 0 ? "the log" : `what is held (${notice.held})`}
            </Link>
            : don’t send what has gone, send what has not. Then switch on the{" "}
            {notice.rules === 1 ? "rule" : `${notice.rules ?? 0} rules`} in their sheets, and sending in the bar.
          </>
        )}
      </span>
      {notice.kind === "sender" && (
        <Link to="/setup/{-$part}" params={{ part: "senders" }} className="link flex-none">
          Open the senders
        </Link>
      )}
      {notice.kind === "went-back" && may && (
        <button type="button" className="link flex-none" disabled={looked.busy} onClick={() => void looked.do()}>
          I have reviewed it
        </button>
      )}
    </li>
  );
}

const decisions = { "it-went": "Mark as sent", "send-again": "Send again", drop: "Don’t send" };

/** What needs somebody, each with what puts it right. */
export function Needs({ today }: { today: Today }) {
  const may = useMay("coordinator");
  const decide = useWrite({
    write: (v: { id: string; decision: "it-went" | "send-again" | "drop" }) =>
      http.POST("/deliveries/{delivery}/decision", {
        params: { path: { delivery: v.id } },
        body: { decision: v.decision },
      }),
    changes: ofEmails,
  });
  const meant = useWrite<string>({
    write: (sheet) => http.POST("/sheets/{sheet}/unjudged-known", { params: { path: { sheet } } }),
    changes: [keys.today],
  });
  const navigate = useNavigate();
  const broken = today.broken ?? [];
  if (
    today.needs.length +
      today.sources.length +
      today.notices.length +
      today.doubled.length +
      today.unjudged.length +
      broken.length ===
    0
  )
    return null;
  const shown = today.needs.slice(0, 7);
  const more = today.needsTotal - shown.reduce((n, x) => n + x.count, 0);
  return (
    <section className="border-t border-hair px-5 pt-4 pb-3.5">
      <h2 className="mb-1">Needs you</h2>
      <ul>
        {today.notices.map((x) => (
          <NoticeLine key={x.text} notice={x} />
        ))}
        {broken.map((r) => (
          <Need
            key={r.rule}
            icon={<MarkIcon letter={r.letter} kind="incomplete" />}
            words={
              <>
                <b className="font-semibold">{r.name}</b> of {r.sheet} is paused: {r.broken}.
              </>
            }
          >
            <Link to="/sheets/$sheet/rules/$rule" params={{ sheet: r.sheetId, rule: r.rule }} className="link">
              Open the rule
            </Link>
          </Need>
        ))}
        {today.sources.map((x) => (
          <Need
            key={x.sheetId}
            icon={<Sign colour="text-brick">–</Sign>}
            sheet={x.sheet}
            words={
              <>
                <b className="font-semibold">Its source was not imported.</b> {x.place}: {x.text}
              </>
            }
          >
            <Link to="/sheets/$sheet/bring" params={{ sheet: x.sheetId }} search={{ from: "source" }} className="link">
              Review
            </Link>
          </Need>
        ))}
        {shown.map((n) => (
          <Need
            key={n.deliveries[0]}
            icon={<MarkIcon letter={n.letter} kind={n.kind} />}
            sheet={n.sheet}
            words={
              <>
                <b className="font-semibold">{n.title}.</b> {n.text}
              </>
            }
          >
            {may &&
              (["it-went", "send-again", "drop"] as const)
                .filter((a) => n.actions.includes(a))
                .map((a) => (
                  <button
                    key={a}
                    type="button"
                    className="link"
                    disabled={decide.busy}
                    onClick={() => void decide.do({ id: n.deliveries[0] ?? "", decision: a })}
                  >
                    {decisions[a]}
                  </button>
                ))}
            {n.actions.includes("mend") && n.row && (
              <Link
                to="/sheets/$sheet"
                params={{ sheet: n.sheetId }}
                search={{ row: n.row, fix: n.faultyColumn || undefined }}
                className="link"
              >
                Fix the row
              </Link>
            )}
            {n.actions.includes("open") && (
              <button
                type="button"
                className="link"
                onClick={() =>
                  void (n.kind === "held" && n.rule && n.count > 1
                    ? navigate({ to: "/sheets/$sheet/held/$rule", params: { sheet: n.sheetId, rule: n.rule } })
                    : navigate({
                        to: "/log",
                        search:
                          n.count > 1
                            ? { show: n.kind === "held" ? "held" : "missed", sheet: n.sheetId }
                            : { show: "needs", email: n.deliveries[0] },
                      }))
                }
              >
                {n.count > 1 ? "Review" : "Open"}
              </button>
            )}
          </Need>
        ))}
        {today.unjudged.map((x) => (
          <Need
            key={x.sheetId}
            icon={<Sign colour="text-brick">?</Sign>}
            sheet={x.sheet}
            words={
              <>
                <b className="font-semibold">{count(x.rows, "row")} cannot be judged</b> by{" "}
                {x.letters.length === 1 ? "rule" : "rules"} {x.letters.join(", ")}: what they look at is empty or
                cannot be read.
              </>
            }
          >
            {may && (
              <button
                type="button"
                className="link"
                title="Not told again until there are more of them"
                disabled={meant.busy}
                onClick={() => void meant.do(x.sheetId)}
              >
                Ignore
              </button>
            )}
            <Link
              to="/sheets/$sheet"
              params={{ sheet: x.sheetId }}
              search={{ show: { only: { rows: "unjudged", rule: x.rule } } }}
              className="link"
            >
              Review
            </Link>
          </Need>
        ))}
        {today.doubled.map((x) => (
          <Need
            key={x.sheetId}
            icon={<Sign colour="text-marigold">×</Sign>}
            sheet={x.sheet}
            words={
              <>
                <b className="font-semibold">The same key twice.</b> {upperFirst(count(x.rows, "row"))}{" "}
                {x.rows === 1 ? "has" : "have"} a key that another row had before; each gets its own emails.
              </>
            }
          >
            <Link
              to="/sheets/$sheet"
              params={{ sheet: x.sheetId }}
              search={{ show: doubledRows(x.key) }}
              className="link"
            >
              Review
            </Link>
          </Need>
        ))}
      </ul>
      {more > 0 && (
        <Link to="/log" search={{ show: "needs" }} className="link mt-1.5 inline-block">
          {more} more
        </Link>
      )}
    </section>
  );
}

// One line: what it is, of which sheet, and what can be done.
type NeedProps = { icon: ReactNode; words: ReactNode; sheet?: string; children: ReactNode };
function Need({ icon, words, sheet, children }: NeedProps) {
  return (
    <li className="flex items-center gap-3.5 border-b border-hair-2 py-1.5 max-[899px]:flex-wrap">
      {icon}
      <span className="min-w-0 flex-1 max-[899px]:basis-[80%]">{words}</span>
      {sheet && <span className="flex-none text-ink-2 max-[899px]:ml-[32px]">{sheet}</span>}
      <span className="flex min-w-[150px] flex-none justify-end gap-3 max-[899px]:ml-auto max-[899px]:min-w-0">
        {children}
      </span>
    </li>
  );
}

function Sign({ colour, children }: { colour: string; children: string }) {
  return (
    <span className={`w-[18px] flex-none text-center font-bold ${colour}`} aria-hidden="true">
      {children}
    </span>
  );
}
