// Where things stand on a track: its axis, and how marks share it.
import type { Mark } from "../api/client";
import { type Days, daysFrom, isoDay, plusDays, weekday } from "./time";

// A track's axis: from two weeks back to four weeks ahead.
export type Axis = {
  days: Days;
  width: number;
  now: number;
  zone: string;
  weekends: { from: number; to: number }[]; // in pixels
};

const [back, ahead] = [14, 28];

export function makeAxis(now: Date, zone: string, width = 266): Axis {
  const days = daysFrom(plusDays(isoDay(now, zone), -back), back + ahead, zone);
  const axis: Axis = { days, width, now: now.getTime(), zone, weekends: [] };
  days.iso.forEach((iso, d) => {
    if (weekday(iso) === 6) axis.weekends.push({ from: edge(axis, d), to: Math.min(edge(axis, d + 2), width) });
  });
  return axis;
}
// Where a day, counted from the first, begins.
export const edge = (a: Axis, d: number) => 10 + (d * (a.width - 20)) / a.days.iso.length;
export function place(a: Axis, at: number): number {
  return edge(a, a.days.at(at));
}

type Shown = { m: Mark; x: number; more: number };
// So many marks of one day stand beside each other; of more, one stands for all.
const beside = 3;

/** The marks that fall on the axis, each so far from the one before that both are seen.
 * Where one day has many, one says how many more there are: they do not spill into the
 * days beside it. */
export function spread(axis: Axis, marks: Mark[]): Shown[] {
  const { starts } = axis.days;
  const days = new Map<number, Mark[]>();
  for (const m of marks) {
    const at = new Date(m.at).getTime();
    const day = starts.filter((s) => s <= at).length - 1;
    if (day < 0 || at > (starts[starts.length - 1] ?? 0)) continue;
    days.set(day, [...(days.get(day) ?? []), m]);
  }
  const out: Shown[] = [];
  for (const of of days.values()) {
    const bundle = of.length > beside;
    for (const m of bundle ? of.slice(0, 1) : of) {
      const x = Math.max(
        place(axis, new Date(m.at).getTime()),
        (out[out.length - 1]?.x ?? -100) + (out[out.length - 1]?.more ? 26 : 11),
      );
      out.push({ m, x, more: bundle ? of.length - 1 : 0 });
    }
  }
  return out;
}
