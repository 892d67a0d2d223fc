// Leafing through the rows below a letter, and a test email to oneself.
import { useState } from "react";
import { toast } from "sonner";
import { http, type Schemas, take } from "../../api/client";
import { useWrite } from "../../api/write";
import { useMay } from "../../parts/session";
import { useKey } from "../../parts/shortcuts";

type Props = {
  sheet: string;
  template: Schemas["TemplateBody"];
  preview?: Schemas["Preview"];
  index: number;
  only: boolean; // only rows with a gap
  warned: number;
  onIndex: (i: number) => void;
  onOnly: (on: boolean) => void;
  onRow: (row: string) => Promise<void>;
};

export function Leaf({ sheet, template, preview: pv, index, only, warned, onIndex, onOnly, onRow }: Props) {
  const mayTest = useMay("editor");
  const [find, setFind] = useState("");
  const total = pv?.total ?? 0;
  const leaf = (by: number) => onIndex(Math.max(0, Math.min(total - 1, index + by)));
  useKey(",", () => leaf(-1));
  useKey(".", () => leaf(1));
  const findRow = async (text: string) => {
    const page = await take(
      http.POST("/sheets/{sheet}/rows/query", { params: { path: { sheet } }, body: { find: text, offset: 0, limit: 1 } }),
    ).catch(() => undefined);
    const r = page?.rows[0];
    if (r) await onRow(r.id);
    else toast.error(`No row holds “${text}”.`);
  };
  const test = useWrite<string, Schemas["Sent"]>({
    write: (row) => http.POST("/sheets/{sheet}/test-email", { params: { path: { sheet } }, body: { template, row } }),
    saved: (sent) => `Sent to you alone, ${sent.to}: “${sent.subject}”.`,
  });
  return (
    <div className="flex h-[46px] flex-none items-center gap-4 text-ink-2">
      <button type="button" className="link" disabled={index === 0} onClick={() => leaf(-1)}>
        previous<kbd className="key">,</kbd>
      </button>
      <button type="button" className="link" disabled={index >= total - 1} onClick={() => leaf(1)}>
        next<kbd className="key">.</kbd>
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
        <span>{only ? "No row has a warning." : "The sheet has no rows."}</span>
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
      {(warned > 0 || only) && (
        <button type="button" className="blank whitespace-nowrap" aria-pressed={only} onClick={() => onOnly(!only)}>
          {only ? "all rows" : "only rows with a gap"}
        </button>
      )}
      {mayTest && (
        <button type="button" className="link ml-auto" disabled={!pv?.rowId || test.busy} onClick={() => void test.do(pv?.rowId ?? "")}>
          Send me this one
        </button>
      )}
    </div>
  );
}
