// The letter as it arrives, in place of the paper: at reading width, on a phone, in dark
// colours, as plain text, and as the source that is sent.
import { useQuery } from "@tanstack/react-query";
import { http, type Schemas, take } from "../../api/client";
import { keys } from "../../api/keys";
import { LetterFrame } from "../../parts/letter";
import { Scroll } from "../../parts/scroll";

export const ways = [
  ["write", "Write"],
  ["letter", "Email"],
  ["phone", "On a phone"],
  ["dark", "Dark"],
  ["text", "Plain text"],
  ["source", "Source"],
  ["html", "HTML"],
] as const;
export type Way = (typeof ways)[number][0];

export function Ways({ way, onWay }: { way: Way; onWay: (w: Way) => void }) {
  return (
    <span
      className="ml-auto flex flex-wrap gap-x-4 gap-y-1 max-[899px]:ml-0 max-[899px]:w-full max-[899px]:flex-nowrap max-[899px]:overflow-x-auto max-[899px]:whitespace-nowrap"
      role="group"
      aria-label="How it is shown"
    >
      {ways.map(([id, name]) => (
        <button
          key={id}
          type="button"
          aria-pressed={way === id}
          className={way === id ? "border-b-[1.5px] border-ink font-semibold text-ink" : "link"}
          onClick={() => onWay(id)}
        >
          {name}
        </button>
      ))}
    </span>
  );
}

type Props = {
  sheet: string;
  template: Schemas["TemplateBody"];
  variant?: number;
  preview?: Schemas["Preview"];
  way: Way;
};

export function Arrives({ sheet, template, variant, preview: pv, way }: Props) {
  const body = { template, row: pv?.rowId, variant, source: true };
  const source = useQuery({
    queryKey: [...keys.preview(sheet), body],
    enabled: way === "source" && !!pv?.rowId,
    queryFn: () => take(http.POST("/sheets/{sheet}/preview", { params: { path: { sheet } }, body })),
  });
  if (!pv || pv.total === 0) return <p className="min-h-0 flex-1 pt-4 text-ink-2">There is no row to show it for.</p>;
  if (way === "text" || way === "source")
    return (
      <Scroll
        label={way === "text" ? "As plain text" : "Source"}
        className="min-h-0 flex-1 border border-hair-2 bg-sheet p-4"
      >
        <pre className={way === "text" ? "font-sans whitespace-pre-wrap" : "text-xs whitespace-pre"}>
          {way === "text" ? `${pv.subject}\n\n${pv.text}` : (source.data?.source ?? "…")}
        </pre>
      </Scroll>
    );
  return (
    <div className="flex min-h-0 flex-1 flex-col items-center overflow-auto border border-hair-2 bg-paper p-4">
      <p className="mb-2 w-full max-w-[660px] font-semibold">{pv.subject}</p>
      <LetterFrame
        html={pv.html}
        title={`The email for ${pv.row}`}
        height={560}
        width={way === "phone" ? 360 : 660}
        dark={way === "dark"}
      />
    </div>
  );
}
