import { memo } from "react";
import type { Mark } from "../api/client";
import { kindWords, Shape } from "./mark";
import { day, midnight } from "./time";

// A track's axis: from two weeks back to four weeks ahead.
export type Axis = { start: number; from: number; to: number; width: number; now: number; zone: string };

export function makeAxis(now: Date, zone: string, width = 266, from = -14, to = 28): Axis {
  return { start: midnight(now, zone).getTime(), from, to, width, now: now.getTime(), zone };
}
export function place(a: Axis, at: number): number {
  return 10 + ((at - a.start) / day - a.from) * ((a.width - 20) / (a.to - a.from));
}

function Weekends({ axis, height }: { axis: Axis; height: number }) {
  const out = [];
  for (let d = axis.from; d < axis.to; d++) {
    const at = new Date(axis.start + d * day + day / 2);
    if (at.getUTCDay() === 6) {
      const x = Math.max(place(axis, axis.start + d * day), 0);
      const end = Math.min(place(axis, axis.start + (d + 2) * day), axis.width);
      out.push(<rect key={d} x={x} y={0} width={end - x} height={height} fill="var(--weekend)" />);
    }
  }
  return <>{out}</>;
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
  let last = -100;
  return (
    <svg width={axis.width} height={height} className="block" role="group" aria-label={summary(marks)}>
      <Weekends axis={axis} height={height} />
      <line x1={10} x2={axis.width - 10} y1={height / 2} y2={height / 2} stroke="var(--hair-2)" />
      <line x1={place(axis, axis.now)} x2={place(axis, axis.now)} y1={0} y2={height} stroke="var(--ink)" strokeWidth={1.2} />
      {marks.map((m, i) => {
        const at = new Date(m.at).getTime();
        if (at < axis.start + axis.from * day || at > axis.start + axis.to * day) return null;
        const x = Math.max(place(axis, at), last + 11);
        last = x;
        return (
          // biome-ignore lint: the marks of a row are reached by its slip too
          <g
            key={`${m.rule}${m.at}${i}`}
            opacity={lit && lit !== m.rule ? 0.25 : 1}
            className={onPress ? "cursor-pointer" : ""}
            onClick={() => onPress?.(m)}
            onMouseEnter={(e) => onPoint?.(m, e.currentTarget)}
            onMouseLeave={() => onPoint?.(null)}
          >
            <Shape x={x} y={height / 2} letter={m.letter} kind={m.kind} />
          </g>
        );
      })}
    </svg>
  );
});

function summary(marks: Mark[]): string {
  if (marks.length === 0) return "no emails";
  return marks.map((m) => `${m.letter} ${kindWords[m.kind]}`).join(", ");
}

export function AxisHead({ axis, height = 38 }: { axis: Axis; height?: number }) {
  const ticks: { x: number; text: string }[] = [];
  const nowX = place(axis, axis.now);
  for (let d = axis.from; d <= axis.to; d++) {
    const at = new Date(axis.start + d * day + day / 2);
    if (at.getUTCDay() !== 1) continue;
    const x = place(axis, axis.start + d * day);
    if (x < 14 || x > axis.width - 14 || Math.abs(x - nowX) < 24) continue;
    const n = at.getUTCDate();
    ticks.push({
      x,
      text:
        n <= 7 || ticks.length === 0 ? `${n} ${at.toLocaleString("en-GB", { month: "short", timeZone: "UTC" }).slice(0, 3)}` : String(n),
    });
  }
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
}
