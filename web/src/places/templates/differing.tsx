import type { Schemas } from "../../api/client";

const paragraphs = (p: Schemas["Preview"]) => p.text.trim().split(/\n\s*\n/);

/** One of two letters as plain text: what the other does not have stands out. */
export function Differing({ name, of, other }: { name: string; of?: Schemas["Preview"]; other?: Schemas["Preview"] }) {
  if (!of || !other) return null;
  const theirs = new Set(paragraphs(other));
  return (
    <div className="max-h-[52vh] min-h-0 overflow-auto border border-hair-2 bg-sheet px-3 py-2">
      <p className="text-ink-2">{name}</p>
      <p className={of.subject === other.subject ? "text-ink-2" : "bg-wash font-semibold"}>{of.subject}</p>
      {paragraphs(of).map((x, i) => (
        <p
          key={i}
          className={`mt-1.5 font-letter whitespace-pre-line ${theirs.has(x) ? "line-clamp-1 text-ink-2" : "bg-wash font-semibold"}`}
        >
          {x}
        </p>
      ))}
    </div>
  );
}
