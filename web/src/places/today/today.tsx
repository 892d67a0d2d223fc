import type { ReactNode } from "react";
import { Link } from "@tanstack/react-router";
import { api, type Schemas } from "../../api/client";
import { Await } from "../../parts/await";
import { TodaysLine } from "./line";
import { Needs } from "./needs";
import { EightWeeks } from "./weeks";
import { useMay, useNow, useZone } from "../../parts/session";
import { clock, count, moment, numberWord, upperFirst } from "../../parts/time";

type Today = Schemas["Today"];

export function TodayPlace(): ReactNode {
  // A sender may come to rest, or a clock go wrong, without a change of any row.
  const q = api.useQuery("get", "/today", undefined, { refetchInterval: 30_000 });
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
            <Link
              to="/sheets/$sheet/bring"
              params={{ sheet: t.sources[0]?.sheetId ?? "" }}
              search={{ from: "source" }}
              className="needs"
            >
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
