// What a rule would do in the coming days, before it is switched on.
import { Link } from "@tanstack/react-router";
import type { Schemas, Sheet } from "../../api/client";
import { count, dayOfMonth, daysFrom, isoDay, moment, shortMonth, weekday } from "../../parts/time";

export type Effect = Schemas["Effect"];

export function EffectView({ e, sheet, now, zone }: { e: Effect; sheet: Sheet; now: Date; zone: string }) {
  return (
    <>
      <h2 className="mb-1.5 flex flex-wrap items-baseline gap-2.5">
        The coming 60 days{" "}
        <small className="text-xs font-[450] text-ink-2">
          each bar a day; {e.rows.toLocaleString("en-GB")} of {count(e.total, "row")} match now
          {e.skipped > 0 && `; ${count(e.skipped, "date")} would be skipped as the rows are now`}
          {e.partial && "; of the first 100,000 rows"}
        </small>
      </h2>
      <Bars days={e.days} now={now} zone={zone} />
      <h2 className="mt-3.5 mb-1">The first of them</h2>
      {e.first.length === 0 ? (
        <p className="text-ink-2">None in 60 days.</p>
      ) : (
        <table className="tbl">
          <thead>
            <tr>
              <th>When</th>
              <th>Row</th>
              <th>To</th>
              <th>Subject</th>
            </tr>
          </thead>
          <tbody>
            {e.first.map((l, i) => (
              <tr key={i}>
                <td className="whitespace-nowrap">{moment(l.at, zone, now)}</td>
                <td className="whitespace-nowrap">
                  <Link to="/sheets/$sheet" params={{ sheet: sheet.id }} search={{ row: l.rowId }} className="hover:underline">
                    {l.row}
                  </Link>
                </td>
                <td className="max-w-56 truncate" title={l.to}>
                  {l.to || <span className="bad">no address</span>}
                </td>
                <td className="w-full max-w-0 truncate" title={l.subject || l.reason}>
                  {l.outcome === "incomplete" ? <span className="text-brick">{l.reason}</span> : l.subject}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

function Bars({ days, now, zone }: { days: Schemas["EffectDay"][]; now: Date; zone: string }) {
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
            <rect key={day} x={x(d)} y={0} width={Math.min(x(d + 2), w - 8) - x(d)} height={76} fill="var(--weekend)" />
          ),
      )}
      {days.map(
        ({ day, emails: n }, d) =>
          n > 0 && (
            <rect key={day} x={x(d) + 2} y={70.5 - (n * 66) / top} width={6.6} height={(n * 66) / top} fill="var(--marigold-fill)">
              <title>{`${day}: ${count(n, "email")}`}</title>
            </rect>
          ),
      )}
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
