import type { Mark, MarkKind } from "../api/client";

export const kindWords: Record<MarkKind, string> = {
  accepted: "accepted",
  coming: "coming",
  queued: "on its way",
  held: "held",
  incomplete: "incomplete",
  failed: "failed",
  "in-doubt": "in doubt",
  skipped: "skipped",
  missed: "missed",
};
const colours: Record<MarkKind, string> = {
  accepted: "var(--juniper)",
  coming: "var(--marigold)",
  queued: "var(--marigold)",
  held: "var(--marigold)",
  incomplete: "var(--brick)",
  failed: "var(--brick)",
  "in-doubt": "var(--plum)",
  skipped: "var(--ink-2)",
  missed: "var(--ink-2)",
};

// A mark's shape at a point: shape says what has become of an email, its
// letter which rule it is of.
export function Shape({
  x,
  y,
  letter,
  kind,
  r = 7.5,
}: {
  x: number;
  y: number;
  letter: string;
  kind: MarkKind;
  r?: number;
}) {
  const c = colours[kind];
  const label = (fill: string, dy = 3.6, extra = {}) => (
    <text
      x={x}
      y={y + dy}
      textAnchor="middle"
      fontSize={letter.length > 1 ? 7.5 : 9.5}
      fontWeight={700}
      fill={fill}
      {...extra}
    >
      {letter}
    </text>
  );
  switch (kind) {
    case "accepted":
      return (
        <g>
          <circle cx={x} cy={y} r={r} fill={c} />
          {label("var(--sheet)")}
        </g>
      );
    case "coming":
    case "queued":
      return (
        <g>
          <circle cx={x} cy={y} r={r - 0.7} fill="var(--sheet)" stroke={c} strokeWidth={1.4} />
          {label(c)}
        </g>
      );
    case "held":
      return (
        <g>
          <rect
            x={x - r + 0.8}
            y={y - r + 0.8}
            width={2 * r - 1.6}
            height={2 * r - 1.6}
            fill="var(--sheet)"
            stroke={c}
            strokeWidth={1.4}
          />
          {label(c)}
        </g>
      );
    case "incomplete":
      return (
        <g>
          <circle
            cx={x}
            cy={y}
            r={r - 0.7}
            fill="var(--sheet)"
            stroke={c}
            strokeWidth={1.4}
            strokeDasharray="2.6 2.2"
          />
          {label(c)}
        </g>
      );
    case "failed":
      return (
        <g>
          <path d={`M${x} ${y - r - 1} L${x + r + 1.6} ${y + r - 0.6} L${x - r - 1.6} ${y + r - 0.6} Z`} fill={c} />
          {label("var(--sheet)", 4.6)}
        </g>
      );
    case "in-doubt":
      return (
        <g>
          <circle cx={x} cy={y} r={r - 0.7} fill="var(--sheet)" stroke={c} strokeWidth={1.4} />
          <path d={`M${x} ${y - r + 0.7} A${r - 0.7} ${r - 0.7} 0 0 0 ${x} ${y + r - 0.7} Z`} fill={c} />
          {label(c, 3.6, { stroke: "var(--sheet)", strokeWidth: 2, paintOrder: "stroke" })}
        </g>
      );
    case "missed":
      return (
        <g stroke={c} strokeWidth={1.6}>
          <line x1={x - 5} x2={x - 1.5} y1={y} y2={y} />
          <line x1={x + 1.5} x2={x + 5} y1={y} y2={y} />
        </g>
      );
  }
  return <line x1={x - 4} x2={x + 4} y1={y} y2={y} stroke={c} strokeWidth={1.6} />;
}

// A mark by itself, with its words for who cannot see it.
export function MarkIcon({ letter, kind }: { letter: string; kind: MarkKind }) {
  return (
    <svg width={18} height={18} role="img" aria-label={`${letter}, ${kindWords[kind]}`} className="flex-none">
      <Shape x={9} y={9} letter={letter} kind={kind} />
    </svg>
  );
}

export type Hover = { mark: Mark; x: number; y: number } | null;
