import { useState } from "react";
import { base } from "../../api/base";
import type { Sheet } from "../../api/client";
import { Slip } from "../../parts/slip";
import { count } from "../../parts/time";
import type { Box } from "./grid";
import { gridColumns } from "./rows";
import { isPlain, type View } from "./view";

// Rows out of Nivot: as a table or a bundle, of all rows, the view or what is
// selected.
export function TakeOut({
  sheet,
  view,
  total,
  box,
  onClose,
}: {
  sheet: Sheet;
  view: View;
  total?: number;
  box: Box | null;
  onClose: () => void;
}) {
  const plain = isPlain(view);
  const [format, setFormat] = useState<"csv" | "xlsx" | "bundle">("xlsx");
  const [which, setWhich] = useState<"all" | "view" | "box">(box ? "box" : plain ? "all" : "view");
  const [emails, setEmails] = useState(false);
  const rows =
    which === "all" ? sheet.figures.rows : which === "view" ? (total ?? 0) : box ? box.bottom - box.top + 1 : 0;
  const q = new URLSearchParams({ format });
  if (format !== "bundle") {
    if (which !== "all") q.set("view", JSON.stringify(view));
    if (which === "box" && box) {
      q.set("from", String(box.top));
      q.set("to", String(box.bottom + 1));
      q.set(
        "columns",
        gridColumns(sheet)
          .slice(box.left, box.right + 1)
          .map((c) => c.id)
          .join(),
      );
    }
    if (emails) q.set("emails", "true");
  }
  const of = [
    { id: "all", name: "all rows", n: sheet.figures.rows, on: true },
    { id: "view", name: "the rows that are shown, in their order", n: total ?? 0, on: !plain },
    { id: "box", name: "the selected cells", n: box ? box.bottom - box.top + 1 : 0, on: box !== null },
  ] as const;
  return (
    <Slip
      title="Export"
      onClose={onClose}
      head={<b className="text-ink">Export</b>}
      foot={
        <a className="act" href={`${base}/api/sheets/${sheet.id}/out?${q}`} download>
          Export {format === "bundle" ? "the sheet" : count(rows, "row")}
        </a>
      }
    >
      <fieldset className="mt-4">
        <legend className="mb-1 text-xs font-[650] text-ink-2">As</legend>
        {(
          [
            ["xlsx", "a workbook (XLSX), whose cells are dates, numbers and text"],
            ["csv", "CSV, which everything reads; text that looks like a formula is made harmless"],
            ["bundle", "a bundle: all rows with their templates and rules, to make the same sheet elsewhere"],
          ] as const
        ).map(([id, name]) => (
          <label key={id} className="flex items-baseline gap-2 py-1">
            <input
              type="radio"
              name="format"
              className="accent-juniper"
              checked={format === id}
              onChange={() => setFormat(id)}
            />
            {name}
          </label>
        ))}
      </fieldset>
      {format !== "bundle" && (
        <>
          <fieldset className="mt-4">
            <legend className="mb-1 text-xs font-[650] text-ink-2">Of</legend>
            {of.map((o) => (
              <label key={o.id} className={`flex items-baseline gap-2 py-1 ${o.on ? "" : "text-ink-2"}`}>
                <input
                  type="radio"
                  name="which"
                  className="accent-juniper"
                  disabled={!o.on}
                  checked={which === o.id}
                  onChange={() => setWhich(o.id)}
                />
                {o.name}
                {o.on && <span className="ml-auto text-ink-2">{count(o.n, "row")}</span>}
              </label>
            ))}
          </fieldset>
          <label className="mt-4 flex items-baseline gap-2">
            <input
              type="checkbox"
              className="accent-juniper"
              checked={emails}
              onChange={(e) => setEmails(e.target.checked)}
            />
            with the last and the next email of each row
          </label>
        </>
      )}
    </Slip>
  );
}
