import type { ReactNode } from "react";
import { Link, useNavigate } from "@tanstack/react-router";
import { api, http, type Schemas } from "../../api/client";
import { keys, ofEmails } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { doubledRows } from "../sheets/view";
import { TodaysLine } from "./line";
import { EightWeeks } from "./weeks";
import { MarkIcon } from "../../parts/mark";
import { useMay, useNow, useZone } from "../../parts/session";
import { clock, count, moment, numberWord, upperFirst } from "../../parts/time";

type Today = Schemas["Today"];

export function TodayPlace(): ReactNode {
  const q = api.useQuery("get", "/today");
  return <Await query={q}>{(t) => <Today today={t} />}</Await>;
}

function Today({ today: t }: { today: Today }) {
  const now = useNow(15000);
  const zone = useZone();
  const hour = Number(clock(now, zone).slice(0, 2));
  const hello = hour < 12 ? "Good morning." : hour < 18 ? "Good afternoon." : "Good evening.";
  return (
    <div className="flex min-h-0 flex-1 flex-col overflow-auto">
      <div className="px-5 pt-[18px] pb-3.5">
        <h1>
          {hello}{" "}
          {t.coming > 0 ? (
            <>
              <span className="figure">{count(t.coming, "email")}</span> {t.coming === 1 ? "goes" : "go"} out today to{" "}
              {count(t.people, "person", "people")}, the next at {t.nextAt ? clock(t.nextAt, zone) : ""}.{" "}
            </>
          ) : t.nextAt ? (
            <>Nothing more goes out today; the next email goes {moment(t.nextAt, zone, now)}. </>
          ) : (
            <>Nothing is coming in the next four weeks. </>
          )}
          Since {t.sinceText}{" "}
          <Link to="/log" search={{ show: "out" }} className="figure">
            {t.wentSince}
          </Link>{" "}
          went out.{" "}
          {t.sources.length > 0 && (
            <Link to="/sheets/$sheet/bring" params={{ sheet: t.sources[0]?.sheetId ?? "" }} search={{ from: "source" }} className="needs">
              {t.sources.length === 1
                ? "A source could not be imported."
                : `${upperFirst(numberWord(t.sources.length))} sources could not be imported.`}
            </Link>
          )}{" "}
          {t.needsTotal > 0 ? (
            <Link to="/log" search={{ show: "needs" }} className="needs">
              {upperFirst(numberWord(t.needsTotal))} {t.needsTotal === 1 ? "email needs" : "emails need"} you.
            </Link>
          ) : (
            t.sources.length + t.notices.length === 0 && "Nothing needs you."
          )}
        </h1>
      </div>
      <Beginning />
      <Needs today={t} />
      <section className="border-t border-hair px-5 pt-4 pb-3">
        <h2 className="mb-2 flex items-baseline gap-2.5">
          Today’s line{" "}
          <small className="text-[13px] font-[450] text-ink-2">
            {t.out} out, {t.refused} failed, {t.coming} to come
          </small>
        </h2>
        {t.lanes.length === 0 ? (
          <p className="text-ink-2">No email today, past or coming.</p>
        ) : (
          <TodaysLine lanes={t.lanes} now={now} zone={zone} />
        )}
      </section>
      <section className="flex-1 border-t border-hair bg-sheet px-5 pt-4 pb-5">
        <EightWeeks days={t.days} now={now} zone={zone} />
      </section>
    </div>
  );
}

// What an installation still lacks to send its first email, with what brings it.
function Beginning() {
  const admin = useMay("administrator");
  const may = useMay("coordinator");
  const senders = api.useQuery("get", "/setup/senders");
  const sheets = api.useQuery("get", "/sheets");
  if (!senders.data || !sheets.data) return null;
  const sends = senders.data.length > 0;
  const has = sheets.data.length > 0;
  if (sends && has) return null;
  return (
    <section className="flex flex-wrap items-center gap-x-5 gap-y-2 border-t border-hair px-5 py-4">
      <p>
        {!sends && "No sender is set, so nothing can go out yet. "}
        {!has && "There is no sheet yet: rows come first, then a rule that says when each gets an email."}
      </p>
      {!sends && admin ? (
        <Link to="/start" className="act">
          Set up the sender{has ? "" : " and the first sheet"}
        </Link>
      ) : (
        !has &&
        may && (
          <Link to="/sheets/new" className="act">
            New sheet
          </Link>
        )
      )}
    </section>
  );
}

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
        <b className="font-semibold">{notice.kind === "went-back" ? "An older copy of the database." : "A clock is wrong."}</b>{" "}
        {notice.text}
        {notice.kind === "went-back" && (
          <>
            {" "}
            First review{" "}
            <Link to="/log" search={{ show: "held" }} className="link">
              {notice.held === 0 ? "the log" : `what is held (${notice.held})`}
            </Link>
            : don’t send what has gone, send what has not. Then switch on the {notice.rules === 1 ? "rule" : `${notice.rules ?? 0} rules`}{" "}
            in their sheets, and sending in the bar.
          </>
        )}
      </span>
      {notice.kind === "went-back" && may && (
        <button type="button" className="link flex-none" disabled={looked.busy} onClick={() => void looked.do()}>
          I have reviewed it
        </button>
      )}
    </li>
  );
}

function Needs({ today }: { today: Today }) {
  const may = useMay("coordinator");
  const decide = useWrite({
    write: (v: { id: string; decision: "it-went" | "send-again" }) =>
      http.POST("/deliveries/{delivery}/decision", { params: { path: { delivery: v.id } }, body: { decision: v.decision } }),
    changes: ofEmails,
  });
  const meant = useWrite<string>({
    write: (sheet) => http.POST("/sheets/{sheet}/unjudged-known", { params: { path: { sheet } } }),
    changes: [keys.today],
  });
  const navigate = useNavigate();
  const broken = today.broken ?? [];
  if (today.needs.length + today.sources.length + today.notices.length + today.doubled.length + today.unjudged.length + broken.length === 0)
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
          <li key={r.rule} className="flex items-center gap-3.5 border-b border-hair-2 py-1.5 max-[899px]:flex-wrap">
            <MarkIcon letter={r.letter} kind="incomplete" />
            <span className="min-w-0 flex-1 max-[899px]:basis-[80%]">
              <b className="font-semibold">{r.name}</b> of {r.sheet} is paused: {r.broken}.
            </span>
            <Link to="/sheets/$sheet/rules/$rule" params={{ sheet: r.sheetId, rule: r.rule }} className="link flex-none">
              Open the rule
            </Link>
          </li>
        ))}
        {today.sources.map((x) => (
          <li key={x.sheetId} className="flex items-center gap-3.5 border-b border-hair-2 py-1.5 max-[899px]:flex-wrap">
            <span className="w-[18px] flex-none text-center font-bold text-brick" aria-hidden="true">
              –
            </span>
            <span className="min-w-0 flex-1 max-[899px]:basis-[80%]">
              <b className="font-semibold">Its source was not imported.</b> {x.place}: {x.text}
            </span>
            <span className="flex-none text-ink-2 max-[899px]:ml-[32px]">{x.sheet}</span>
            <span className="flex min-w-[150px] flex-none justify-end max-[899px]:ml-auto max-[899px]:min-w-0">
              <Link to="/sheets/$sheet/bring" params={{ sheet: x.sheetId }} search={{ from: "source" }} className="link">
                Review
              </Link>
            </span>
          </li>
        ))}
        {shown.map((n) => (
          <li key={n.deliveries[0]} className="flex items-center gap-3.5 border-b border-hair-2 py-1.5 max-[899px]:flex-wrap">
            <MarkIcon letter={n.letter} kind={n.kind} />
            <span className="min-w-0 flex-1 max-[899px]:basis-[80%]">
              <b className="font-semibold">{n.title}.</b> {n.text}
            </span>
            <span className="flex-none text-ink-2 max-[899px]:ml-[32px]">{n.sheet}</span>
            <span className="flex min-w-[150px] flex-none justify-end max-[899px]:ml-auto max-[899px]:min-w-0 gap-3">
              {may && n.actions.includes("it-went") && (
                <>
                  <button
                    type="button"
                    className="link"
                    disabled={decide.busy}
                    onClick={() => void decide.do({ id: n.deliveries[0] ?? "", decision: "it-went" })}
                  >
                    Mark as sent
                  </button>
                  <button
                    type="button"
                    className="link"
                    disabled={decide.busy}
                    onClick={() => void decide.do({ id: n.deliveries[0] ?? "", decision: "send-again" })}
                  >
                    Send again
                  </button>
                </>
              )}
              {n.actions.includes("mend") && n.row && (
                <Link to="/sheets/$sheet" params={{ sheet: n.sheetId }} search={{ row: n.row, fix: n.blame || undefined }} className="link">
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
            </span>
          </li>
        ))}
        {today.unjudged.map((x) => (
          <li key={x.sheetId} className="flex items-center gap-3.5 border-b border-hair-2 py-1.5 max-[899px]:flex-wrap">
            <span className="w-[18px] flex-none text-center font-bold text-brick" aria-hidden="true">
              ?
            </span>
            <span className="min-w-0 flex-1 max-[899px]:basis-[80%]">
              <b className="font-semibold">{count(x.rows, "row")} cannot be judged</b> by {x.letters.length === 1 ? "rule" : "rules"}{" "}
              {x.letters.join(", ")}: what they look at is empty or cannot be read.
            </span>
            <span className="flex-none text-ink-2 max-[899px]:ml-[32px]">{x.sheet}</span>
            <span className="flex min-w-[150px] flex-none justify-end max-[899px]:ml-auto max-[899px]:min-w-0 gap-3">
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
            </span>
          </li>
        ))}
        {today.doubled.map((x) => (
          <li key={x.sheetId} className="flex items-center gap-3.5 border-b border-hair-2 py-1.5 max-[899px]:flex-wrap">
            <span className="w-[18px] flex-none text-center font-bold text-marigold" aria-hidden="true">
              ×
            </span>
            <span className="min-w-0 flex-1 max-[899px]:basis-[80%]">
              <b className="font-semibold">The same key twice.</b> {upperFirst(count(x.rows, "row"))} {x.rows === 1 ? "has" : "have"} a key
              that another row had before; each gets its own emails.
            </span>
            <span className="flex-none text-ink-2 max-[899px]:ml-[32px]">{x.sheet}</span>
            <span className="flex min-w-[150px] flex-none justify-end max-[899px]:ml-auto max-[899px]:min-w-0">
              <Link to="/sheets/$sheet" params={{ sheet: x.sheetId }} search={{ show: doubledRows(x.key) }} className="link">
                Review
              </Link>
            </span>
          </li>
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
