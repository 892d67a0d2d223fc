// A rule's sentence to be read.
import type { Schemas } from "../../api/client";

type Segment = Schemas["Segment"];

/** The segments, paragraph by paragraph. */
export function paragraphs(of: Segment[]): Segment[][] {
  const out: Segment[][] = [];
  for (const s of of) {
    if (s.begins || out.length === 0) out.push([]);
    out[out.length - 1]?.push(s);
  }
  return out;
}

/** The sentence to be read. */
export function Sentence({
  of,
  className,
  differs,
}: {
  of: Segment[];
  className?: string;
  differs?: (s: Segment) => boolean;
}) {
  return paragraphs(of).map((p, i) => (
    <p key={i} className={className}>
      {p.map((x, k) =>
        x.strong ? (
          <b key={k} className={differs?.(x) ? "bg-wash" : undefined}>
            {x.text}
          </b>
        ) : (
          <span key={k} className={differs?.(x) ? "bg-wash" : undefined}>
            {x.text}
          </span>
        ),
      )}
    </p>
  ));
}
