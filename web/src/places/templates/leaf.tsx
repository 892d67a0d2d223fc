// Leafing through the rows below a letter, and trying the letter.
import { useState } from "react";
import { toast } from "sonner";
import { api, http, type Schemas, take } from "../../api/client";
import { Blank, Choices } from "../../parts/picker";
import { useMay } from "../../parts/session";
import { useKey } from "../../parts/shortcuts";
import { Trying } from "./trying";

export type Only = NonNullable<Schemas["PreviewAsk"]["only"]>;

type Props = {
  sheet: string;
  template: Schemas["TemplateBody"];
  saved?: Schemas["Template"]; // as it is kept
  preview?: Schemas["Preview"];
  checks?: Schemas["Checks"];
  index: number;
  only: Only;
  onIndex: (i: number) => void;
  onOnly: (only: Only) => void;
  onRow: (row: string) => Promise<void>;
};

export function Leaf({ sheet, template, saved, preview: pv, checks, index, only, onIndex, onOnly, onRow }: Props) {
  const mayTest = useMay("editor");
  const [find, setFind] = useState("");
  const total = pv?.total ?? 0;
  const leaf = (by: number) => onIndex(Math.max(0, Math.min(total - 1, index + by)));
  useKey(",", () => leaf(-1));
  useKey(".", () => leaf(1));
  const findRow = async (text: string) => {
    const page = await take(
      http.POST("/sheets/{sheet}/rows/query", {
        params: { path: { sheet } },
        body: { find: text, offset: 0, limit: 1 },
      }),
    ).catch(() => undefined);
    const r = page?.rows[0];
    if (r) await onRow(r.id);
    else toast.error(`No row holds “${text}”.`);
  };
  return (
    <div className="flex min-h-[46px] flex-none flex-wrap items-center gap-x-4 gap-y-1 text-ink-2">
      <button type="button" className="link" disabled={index === 0} onClick={() => leaf(-1)}>
        previous
        <kbd className="key" aria-hidden>
          ,
        </kbd>
      </button>
      <button type="button" className="link" disabled={index >= total - 1} onClick={() => leaf(1)}>
        next
        <kbd className="key" aria-hidden>
          .
        </kbd>
      </button>
      {pv && total > 0 ? (
        <span className="whitespace-nowrap">
          Row{" "}
          <b className="text-ink" data-testid="previewed">
            {pv.row}
          </b>
          , {pv.index + 1} of {total.toLocaleString("en-GB")}
        </span>
      ) : (
        <span>{Object.keys(only).length > 0 ? "No row is like that." : "The sheet has no rows."}</span>
      )}
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (find.trim()) void findRow(find.trim());
        }}
      >
        <input
          className="field w-32"
          placeholder="find a row"
          aria-label="Find a row"
          value={find}
          onChange={(e) => setFind(e.target.value)}
        />
      </form>
      <Which sheet={sheet} checks={checks} only={only} onOnly={onOnly} />
      {mayTest && (
        <Trying
          sheet={sheet}
          template={template}
          saved={saved}
          row={pv?.rowId ? { row: pv.rowId, name: pv.row } : undefined}
        />
      )}
    </div>
  );
}

// Which rows are leafed through.
function Which({
  sheet,
  checks,
  only,
  onOnly,
}: {
  sheet: string;
  checks?: Schemas["Checks"];
  only: Only;
  onOnly: (o: Only) => void;
}) {
  const [open, setOpen] = useState(false);
  const rules = api.useQuery("get", "/sheets/{sheet}/rules", { params: { path: { sheet } } });
  const views = api.useQuery("get", "/sheets/{sheet}/views", { params: { path: { sheet } } });
  const warned = checks ? checks.rows - checks.good : 0;
  const items = [
    { id: "", name: "all rows" },
    { id: "warned", name: "only rows with a warning", note: warned.toLocaleString("en-GB") },
    ...(rules.data ?? []).map((r) => ({ id: `rule:${r.id}`, name: `only rows of rule ${r.letter}, ${r.body.name}` })),
    ...(views.data ?? []).map((v) => ({ id: `view:${v.id}`, name: `only rows of the view ${v.name}` })),
  ];
  const now = only.warned ? "warned" : only.rule ? `rule:${only.rule}` : only.view ? `view:${only.view}` : "";
  const check = checks?.checks.find((c) => c.key === only.check);
  const words = only.check
    ? `only rows where: ${check?.text ?? "…"}`
    : only.variant !== undefined
      ? "only rows in this language"
      : (items.find((i) => i.id === now)?.name ?? "all rows");
  return (
    <span className="max-w-[340px] min-w-0 truncate" title={words}>
      <Blank words={words} title="Leaf through" label="Leaf through" open={open} onOpenChange={setOpen}>
        <Choices
          name="Leaf through"
          items={items}
          value={only.check || only.variant !== undefined ? undefined : now}
          onChoose={(id) => {
            setOpen(false);
            if (id === "warned") onOnly({ warned: true });
            else if (id.startsWith("rule:")) onOnly({ rule: id.slice(5) });
            else if (id.startsWith("view:")) onOnly({ view: id.slice(5) });
            else onOnly({});
          }}
        />
      </Blank>
    </span>
  );
}
