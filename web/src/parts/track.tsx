import { memo } from "react";
import type { Mark } from "../api/client";
import { type Axis, edge, place, spread } from "./axis";
import { kindWords, Shape } from "./mark";
import { clock, count, dayOfMonth, longDay, shortMonth, weekday } from "./time";

// The weekends in one piece, since every row of a sheet has them.
function Weekends({ axis, height }: { axis: Axis; height: number }) {
  const d = axis.weekends.map(({ from, to }) => `M${from} 0H${to}V${height}H${from}Z`).join("");
  return <path d={d} fill="var(--weekend)" />;
}

// From where to where emails with their follow-ups reach.
function chains(marks: { m: Mark; x: number }[]): { rule: string; from: number; to: number }[] {
  const out = new Map<string, { rule: string; from: number; to: number }>();
  for (const { m, x } of marks) {
    if (!m.chain) continue;
    const c = out.get(m.chain);
    if (c) c.to = x;
    else out.set(m.chain, { rule: m.rule, from: x, to: x });
  }
  return [...out.values()].filter((c) => c.to > c.from);
}

export const Track = memo(function Track({
  axis,
  marks,
  height = 30,
  lit,
  onPress,
  onPoint,
}: {
  axis: Axis;
  marks: Mark[];
  height?: number;
  lit?: string | null;
  onPress?: (m: Mark) => void;
  onPoint?: (m: Mark | null, el?: Element) => void;
}) {
  const shown = spread(axis, marks);
  const faint = (rule: string) => (lit && lit !== rule ? 0.25 : 1);
  return (
    <svg width={axis.width} height={height} className="block" role="group" aria-label={summary(marks)}>
      <Weekends axis={axis} height={height} />
      <line x1={10} x2={axis.width - 10} y1={height / 2} y2={height / 2} stroke="var(--hair-2)" />
      <line
        x1={place(axis, axis.now)}
        x2={place(axis, axis.now)}
        y1={0}
        y2={height}
        stroke="var(--ink)"
        strokeWidth={1.2}
      />
      {chains(shown).map((c, i) => (
        <line
          key={i}
          x1={c.from}
          x2={c.to}
          y1={height / 2}
          y2={height / 2}
          stroke="var(--ink-2)"
          strokeWidth={1.6}
          opacity={faint(c.rule)}
        />
      ))}
      {shown.map(({ m, x, more }, i) => (
        // By keyboard one goes along them with Alt and the arrows, in the grid.
        <g
          key={`${m.rule}${m.at}${i}`}
          data-mark={marks.indexOf(m)}
          opacity={faint(m.rule)}
          className={onPress ? "cursor-pointer" : ""}
          onClick={() => onPress?.(m)}
          onMouseEnter={(e) => onPoint?.(m, e.currentTarget)}
          onMouseLeave={() => onPoint?.(null)}
        >
          <Shape x={x} y={height / 2} letter={m.letter} kind={m.kind} />
          {more > 0 && (
            <text x={x + 9.5} y={height / 2 + 3.6} fontSize={10} fontWeight={600} fill="var(--ink-2)">
              +{more}
              <title>{`${count(more, "email")} more on this day: they stand in the row’s slip`}</title>
            </text>
          )}
        </g>
      ))}
    </svg>
  );
});

function summary(marks: Mark[]): string {
  if (marks.length === 0) return "no emails";
  return `${count(marks.length, "email")}: ${marks.map((m) => `${m.letter} ${kindWords[m.kind]}`).join(", ")}`;
}

/** What a mark is, to be heard: the email, when, and what becomes of it. */
export const markWords = (m: Mark, zone: string) =>
  `${m.line}, ${longDay(m.at, zone)} ${clock(m.at, zone)}, ${kindWords[m.kind]}`;

export const AxisHead = memo(function AxisHead({ axis, height = 38 }: { axis: Axis; height?: number }) {
  const ticks: { x: number; text: string }[] = [];
  const nowX = place(axis, axis.now);
  axis.days.iso.forEach((iso, d) => {
    if (weekday(iso) !== 1) return;
    const x = edge(axis, d);
    if (x < 14 || x > axis.width - 14 || Math.abs(x - nowX) < 24) return;
    const n = dayOfMonth(iso);
    ticks.push({ x, text: n <= 7 || ticks.length === 0 ? `${n} ${shortMonth(iso)}` : String(n) });
  });
  return (
    <svg width={axis.width} height={height} className="block" aria-hidden="true">
      {ticks.map((t) => (
        <g key={t.x}>
          <line x1={t.x} x2={t.x} y1={height - 6} y2={height} stroke="var(--ink-2)" strokeOpacity={0.5} />
          <text x={t.x} y={height - 10} textAnchor="middle" fontSize={11} fontWeight={500} fill="var(--ink-2)">
            {t.text}
          </text>
        </g>
      ))}
      <line x1={nowX} x2={nowX} y1={height - 16} y2={height} stroke="var(--ink)" strokeWidth={1.2} />
      <text x={nowX} y={height - 20} textAnchor="middle" fontSize={11} fontWeight={700} fill="var(--ink)">
        now
      </text>
    </svg>
  );
});
