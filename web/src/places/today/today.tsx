import type { ReactNode } from "react";
import { Link, useNavigate } from "@tanstack/react-router";
import { api, http, type Mark, type Schemas } from "../../api/client";
import { keys, ofEmails } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { doubledRows } from "../sheets/view";
import { kindWords, MarkIcon, Shape } from "../../parts/mark";
import { useMay, useNow, useZone } from "../../parts/session";
import { clock, count, dayOfMonth, daysFrom, isoDay, moment, numberWord, shortMonth, upperFirst } from "../../parts/time";

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
          t.lanes.map((l) => <Lane key={l.sheetId} name={l.sheet} sheet={l.sheetId} marks={l.marks} now={now} zone={zone} />)
        )}
        {t.lanes.length > 0 && <Hours now={now} zone={zone} />}
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

const width = 1240;
const fromHour = 6;
const toHour = 20;
function hourX(at: Date, zone: string): number {
  const [hour = 0, minute = 0] = clock(at, zone).split(":").map(Number);
  const h = hour + minute / 60;
  return 110 + (Math.max(fromHour - 0.3, Math.min(toHour + 0.3, h)) - fromHour) * ((width - 130) / (toHour - fromHour));
}

// A sheet's lane on the hours of the day; marks of one minute stack, and past
// a few say their number.
function Lane({ name, sheet, marks, now, zone }: { name: string; sheet: string; marks: Mark[]; now: Date; zone: string }) {
  const navigate = useNavigate();
  const nowX = hourX(now, zone);
  const { groups, before, after } = layOut(marks, now, zone, nowX);
  const tall = Math.max(1, ...groups.map((g) => Math.min(3, Math.ceil(g.marks.length / 6))));
  const h = 10 + tall * 18;
  return (
    <svg
      viewBox={`0 0 ${width} ${h}`}
      className="block w-full"
      role="group"
      aria-label={`${name}: ${marks
        .map((m) => `${m.letter} ${kindWords[m.kind]} ${clock(m.at, zone)}`)
        .slice(0, 40)
        .join(", ")}`}
    >
      <text x={0} y={h - 9} fontSize={12} fill="var(--ink-2)">
        {name}
      </text>
      <line x1={nowX} x2={nowX} y1={0} y2={h} stroke="var(--ink)" strokeWidth={1.2} />
      {groups.map((g) => {
        const cells = g.marks.length > 18 ? g.marks.slice(0, 17) : g.marks; // the last place says how many more
        return (
          <g key={g.x}>
            {cells.map((m, i) => (
              <g
                key={`${m.rule}${m.row}${i}`}
                className="cursor-pointer"
                onClick={() =>
                  void navigate(
                    m.delivery
                      ? { to: "/log", search: { email: m.delivery } }
                      : { to: "/sheets/$sheet", params: { sheet }, search: { row: m.row } },
                  )
                }
              >
                <title>{`${clock(m.at, zone)} ${m.line}`}</title>
                <Shape x={g.x + (i % 6) * 16} y={h - 12 - Math.floor(i / 6) * 18} letter={m.letter} kind={m.kind} />
              </g>
            ))}
            {g.marks.length > 18 && (
              <text x={g.x + 80} y={h - 44} textAnchor="middle" fontSize={11} fill="var(--ink-2)">
                +{g.marks.length - 17}
              </text>
            )}
          </g>
        );
      })}
      {before > 0 && (
        <text x={102} y={h - 8} textAnchor="end" fontSize={11} fill="var(--ink-2)">
          +{before}
        </text>
      )}
      {after > 0 && (
        <text x={width} y={h - 8} textAnchor="end" fontSize={11} fill="var(--ink-2)">
          +{after}
        </text>
      )}
    </svg>
  );
}

// Marks of one instant stand together. Past ones keep left of now and coming
// ones right of it; who finds no room is counted at the edge.
function layOut(marks: Mark[], now: Date, zone: string, nowX: number) {
  const by = new Map<string, Mark[]>();
  for (const m of marks) by.set(m.at, [...(by.get(m.at) ?? []), m]);
  const groups: { x: number; marks: Mark[] }[] = [];
  const wide = (n: number) => (Math.min(6, n) - 1) * 16;
  let left = nowX - 10;
  let right = nowX + 10;
  let before = 0;
  let after = 0;
  const all = [...by.values()];
  for (const g of all.filter((g) => new Date(g[0]?.at ?? 0) <= now).reverse()) {
    const x = Math.min(hourX(new Date(g[0]?.at ?? 0), zone), left - wide(g.length));
    if (x < 120) before += g.length;
    else {
      groups.push({ x, marks: g });
      left = x - 16;
    }
  }
  for (const g of all.filter((g) => new Date(g[0]?.at ?? 0) > now)) {
    const x = Math.max(hourX(new Date(g[0]?.at ?? 0), zone), right);
    if (x + wide(g.length) > width - 30) after += g.length;
    else {
      groups.push({ x, marks: g });
      right = x + wide(g.length) + 16;
    }
  }
  return { groups, before, after };
}

function Hours({ now, zone }: { now: Date; zone: string }) {
  const hours = Array.from({ length: toHour - fromHour + 1 }, (_, i) => fromHour + i);
  const x = (h: number) => 110 + (h - fromHour) * ((width - 130) / (toHour - fromHour));
  const nowX = hourX(now, zone);
  return (
    <svg viewBox={`0 0 ${width} 26`} className="block w-full" aria-hidden="true">
      <line x1={110} x2={width - 20} y1={1} y2={1} stroke="var(--hair)" />
      {hours.map((h) => (
        <g key={h}>
          <line x1={x(h)} x2={x(h)} y1={1} y2={h % 2 ? 5 : 8} stroke="var(--ink-2)" strokeOpacity={0.5} />
          {h % 2 === 0 && Math.abs(x(h) - nowX) > 34 && (
            <text x={x(h)} y={21} textAnchor="middle" fontSize={11} fill="var(--ink-2)">
              {String(h).padStart(2, "0")}:00
            </text>
          )}
        </g>
      ))}
      <line x1={nowX} x2={nowX} y1={0} y2={8} stroke="var(--ink)" strokeWidth={1.2} />
      <text x={nowX} y={21} textAnchor="middle" fontSize={11} fontWeight={700} fill="var(--ink)">
        now
      </text>
    </svg>
  );
}

function EightWeeks({ days, now, zone }: { days: Schemas["DayBar"][]; now: Date; zone: string }) {
  const today = isoDay(now, zone);
  const at = days.findIndex((d) => d.day === today);
  const out = days.reduce((n, d) => n + d.out, 0);
  const bad = days.reduce((n, d) => n + d.bad, 0);
  const coming = days.reduce((n, d) => n + d.coming, 0);
  const top = Math.max(8, ...days.map((d) => d.out + d.bad + d.coming));
  const h = 126;
  const x = (i: number) => 10 + (i * (width - 20)) / days.length;
  const y = (n: number) => (n * 98) / top;
  const nowX = x(at + daysFrom(today, 1, zone).at(now.getTime()));
  return (
    <>
      <h2 className="mb-2 flex items-baseline gap-2.5">
        Eight weeks{" "}
        <small className="text-[13px] font-[450] text-ink-2">
          behind us: {out.toLocaleString("en-GB")} sent, {bad} failed · ahead: {coming.toLocaleString("en-GB")}
        </small>
      </h2>
      <svg
        viewBox={`0 0 ${width} ${h}`}
        className="block w-full"
        role="img"
        aria-label={`${out} emails sent in the weeks behind, ${coming} coming in the weeks ahead`}
      >
        {days.map(
          (d, i) =>
            d.weekend &&
            i % 7 === 5 && <rect key={`w${d.day}`} x={x(i)} y={0} width={x(i + 2) - x(i)} height={104} fill="var(--weekend)" />,
        )}
        {days.map((d, i) => (
          <g key={d.day}>
            <title>{`${d.day}: ${d.out} out, ${d.bad} failed, ${d.coming} coming`}</title>
            <rect x={x(i)} y={0} width={x(1) - x(0)} height={104} fill="transparent" />
            {d.bad > 0 && <rect x={x(i) + 5} y={104 - y(d.bad)} width={12} height={y(d.bad)} fill="var(--brick)" />}
            {d.out > 0 && <rect x={x(i) + 5} y={104 - y(d.bad) - y(d.out)} width={12} height={y(d.out)} fill="var(--juniper)" />}
            {d.coming > 0 && (
              <rect x={x(i) + 5} y={104 - y(d.bad + d.out + d.coming)} width={12} height={y(d.coming)} fill="var(--marigold-fill)" />
            )}
            {i % 7 === 0 && Math.abs(i - at) > 1 && (
              <text x={x(i) + 4} y={120} fontSize={11} fill="var(--ink-2)">
                {label(d.day, i)}
              </text>
            )}
          </g>
        ))}
        <line x1={10} x2={width - 10} y1={104.5} y2={104.5} stroke="var(--hair)" />
        {at >= 0 && (
          <>
            <line x1={nowX} x2={nowX} y1={0} y2={108} stroke="var(--ink)" strokeWidth={1.2} />
            <text x={x(at) + 4} y={120} fontSize={11} fontWeight={700} fill="var(--ink)">
              now
            </text>
          </>
        )}
      </svg>
    </>
  );
}
function label(iso: string, i: number): string {
  const n = dayOfMonth(iso);
  return i === 0 || n <= 7 ? `${n} ${shortMonth(iso)}` : String(n);
}
