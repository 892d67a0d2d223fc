// Today's line: each sheet's emails of the day, past left of now and coming right of it.
import { Link, useNavigate } from "@tanstack/react-router";
import type { Mark, Schemas } from "../../api/client";
import { kindWords, MarkIcon, Shape } from "../../parts/mark";
import { useNarrow } from "../../parts/narrow";
import { clock, count } from "../../parts/time";

const width = 1240;
const fromHour = 6;
const toHour = 20;
function hourX(at: Date, zone: string): number {
  const [hour = 0, minute = 0] = clock(at, zone).split(":").map(Number);
  const h = hour + minute / 60;
  return (
    110 + (Math.max(fromHour - 0.3, Math.min(toHour + 0.3, h)) - fromHour) * ((width - 130) / (toHour - fromHour))
  );
}

type Lanes = Schemas["Today"]["lanes"];
type Props = { lanes: Lanes; now: Date; zone: string };

/** The day's emails, sheet by sheet: along its hours, or on a narrow page as a list. */
export function TodaysLine({ lanes, now, zone }: Props) {
  if (useNarrow()) return <TodaysList lanes={lanes} zone={zone} />;
  return (
    <>
      {lanes.map((l) => (
        <Lane key={l.sheetId} name={l.sheet} sheet={l.sheetId} marks={l.marks} now={now} zone={zone} />
      ))}
      <Hours now={now} zone={zone} />
    </>
  );
}

/** Where an email is opened. */
const whereOf = (m: Mark, sheet: string) =>
  m.delivery
    ? ({ to: "/log", search: { email: m.delivery } } as const)
    : ({ to: "/sheets/$sheet", params: { sheet }, search: { row: m.row } } as const);

// Emails of one moment, rule and outcome are one line.
function TodaysList({ lanes, zone }: Omit<Props, "now">) {
  return lanes.map((l) => {
    const by = new Map<string, Mark[]>();
    for (const m of l.marks) {
      const key = `${clock(m.at, zone)} ${m.rule} ${m.kind}`;
      by.set(key, [...(by.get(key) ?? []), m]);
    }
    return (
      <section key={l.sheetId} className="mb-3">
        <h3 className="text-xs text-ink-2">{l.sheet}</h3>
        <ul>
          {[...by].map(([key, of]) => {
            const m = of[0] as Mark;
            return (
              <li key={key}>
                <Link {...whereOf(m, l.sheetId)} className="flex min-h-11 items-center gap-3 border-b border-hair-2">
                  <span className="w-11 flex-none">{clock(m.at, zone)}</span>
                  <MarkIcon letter={m.letter} kind={m.kind} />
                  <span className="min-w-0 flex-1">
                    {of.length === 1 ? m.line : `${count(of.length, "email")} ${kindWords[m.kind]}`}
                  </span>
                </Link>
              </li>
            );
          })}
        </ul>
      </section>
    );
  });
}

// A sheet's lane on the hours of the day; marks of one minute stack, and past
// a few say their number.
function Lane({
  name,
  sheet,
  marks,
  now,
  zone,
}: {
  name: string;
  sheet: string;
  marks: Mark[];
  now: Date;
  zone: string;
}) {
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
                onClick={() => void navigate(whereOf(m, sheet))}
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
