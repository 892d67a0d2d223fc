// Eight weeks of days: what went, what failed, and what is to come.
import type { Schemas } from "../../api/client";
import { useNarrow, useWidth } from "../../parts/narrow";
import { dayOfMonth, daysFrom, isoDay, shortMonth } from "../../parts/time";

export function EightWeeks({ days, now, zone }: { days: Schemas["DayBar"][]; now: Date; zone: string }) {
  const narrow = useNarrow();
  const page = useWidth();
  const width = narrow ? Math.max(280, page - 40) : 1240; // drawn smaller, its words could not be read
  const each = narrow ? 14 : 7; // days from label to label
  const bar = ((width - 20) / days.length) * 0.55;
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
            i % 7 === 5 && (
              <rect key={`w${d.day}`} x={x(i)} y={0} width={x(i + 2) - x(i)} height={104} fill="var(--weekend)" />
            ),
        )}
        {days.map((d, i) => (
          <g key={d.day}>
            <title>{`${d.day}: ${d.out} out, ${d.bad} failed, ${d.coming} coming`}</title>
            <rect x={x(i)} y={0} width={x(1) - x(0)} height={104} fill="transparent" />
            {d.bad > 0 && (
              <rect x={x(i) + bar * 0.4} y={104 - y(d.bad)} width={bar} height={y(d.bad)} fill="var(--brick)" />
            )}
            {d.out > 0 && (
              <rect
                x={x(i) + bar * 0.4}
                y={104 - y(d.bad) - y(d.out)}
                width={bar}
                height={y(d.out)}
                fill="var(--juniper)"
              />
            )}
            {d.coming > 0 && (
              <rect
                x={x(i) + bar * 0.4}
                y={104 - y(d.bad + d.out + d.coming)}
                width={bar}
                height={y(d.coming)}
                fill="var(--marigold-fill)"
              />
            )}
            {i % each === 0 && Math.abs(i - at) > each / 4 && (
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
