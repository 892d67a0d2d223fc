// The rows that a rule cannot judge, and their cells mended without leaving the rule.
import { useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useEffect, useState } from "react";
import type { Rule, Schemas, Sheet } from "../../api/client";
import { keys, refresh } from "../../api/keys";
import { onChange } from "../../api/live";
import { useMay } from "../../parts/session";
import { Slip } from "../../parts/slip";
import { count } from "../../parts/time";
import { Clashes } from "../sheets/clash";
import { nameable } from "../sheets/cell";
import { useEdits } from "../sheets/edits";
import { RowSlip } from "../sheets/row";

type Props = { sheet: Sheet; rule?: Rule; rows: Schemas["FaultyRow"][]; total: number; onClose: () => void };

export function FaultySlip({ sheet, rule, rows, total, onClose }: Props) {
  const edits = useEdits(sheet);
  const mayEdit = useMay("editor");
  const mayLocked = useMay("coordinator");
  const client = useQueryClient();
  // What has been mended is counted anew, as soon as the server has it.
  useEffect(
    () =>
      onChange((c) => {
        if (c.sheets.includes(sheet.id)) void refresh(client, [keys.effect(sheet.id), keys.explain(sheet.id)]);
      }),
    [client, sheet.id],
  );
  const [fixing, setFixing] = useState<{ row: string; column?: string }>();
  if (fixing)
    return (
      <>
        <RowSlip
          key={fixing.row}
          sheet={sheet}
          row={fixing.row}
          fix={fixing.column}
          why={rule?.id}
          onClose={() => setFixing(undefined)}
          onRow={(row) => setFixing({ row })}
          mayEdit={mayEdit}
          mayLocked={mayLocked}
          edits={edits}
        />
        <Clashes edits={edits} />
      </>
    );
  const said = (f: Schemas["FaultyRow"]) => {
    const c = nameable(sheet).find((x) => x.id === f.column);
    if (!c) return "has no address to write to";
    return f.text ? `${c.name} cannot be read: “${f.text}”` : `${c.name} is empty`;
  };
  return (
    <Slip
      title="Rows that cannot be judged"
      wide
      onClose={onClose}
      head={<b className="text-ink">{count(total, "row")} cannot be judged</b>}
    >
      <p className="mt-3 text-ink-2">
        What the rule looks at is empty there, or cannot be read. It plans no email for{" "}
        {total === 1 ? "this row" : "these rows"} until that is fixed.
      </p>
      <ul className="mt-2">
        {rows.map((f) => (
          <li key={f.row} className="flex items-baseline gap-3 border-b border-hair-2 py-1.5">
            <b className="w-24 flex-none font-semibold [overflow-wrap:anywhere]">{f.name}</b>
            <span className="min-w-0 flex-1 [overflow-wrap:anywhere]">{said(f)}</span>
            <button
              type="button"
              className="link flex-none"
              aria-label={`${mayEdit ? "Fix" : "Open"} ${f.name}`}
              onClick={() => setFixing({ row: f.row, column: f.column || undefined })}
            >
              {mayEdit ? "Fix" : "Open"}
            </button>
          </li>
        ))}
      </ul>
      {total > rows.length && <p className="mt-2 text-ink-2">The first {rows.length} of them.</p>}
      {rule && (
        <Link
          to="/sheets/$sheet"
          params={{ sheet: sheet.id }}
          search={{ show: { only: { rows: "unjudged", rule: rule.id } } }}
          className="link mt-3 inline-block"
        >
          Show them in the sheet
        </Link>
      )}
    </Slip>
  );
}
