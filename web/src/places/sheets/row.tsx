import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { toast } from "sonner";
import { api, type Row, type Sheet, words } from "../../api/client";
import { Await } from "../../parts/await";
import { MarkIcon } from "../../parts/mark";
import { useNow } from "../../parts/session";
import { Section, Slip } from "../../parts/slip";
import { moment } from "../../parts/time";
import { useWhy, Why } from "../rule/why";
import { nameable } from "./cell";
import { Cells } from "./cells";
import { ComingEmail } from "./coming";
import type { Edits } from "./edits";
import { SameKey } from "./same";

const did: Record<string, string> = {
  "row-added": "added the row",
  "row-edited": "changed",
  "row-deleted": "deleted the row",
  "row-restored": "restored the row",
  "row-gone": "marked the row as gone",
  "row-back": "found the row in the file again",
  imported: "imported the row",
  refreshed: "imported the row",
  "set-aside": "said of an email to come",
};

// A row's slip: its emails, past and coming, and its history.
export function RowSlip({
  sheet,
  row,
  why,
  fix,
  onClose,
  onRow,
  onEmail,
  mayEdit,
  mayLocked,
  edits,
}: {
  sheet: Sheet;
  row: string;
  why?: string; // the rule by which it is asked
  fix?: string; // the column whose cell is to be mended
  onClose: () => void;
  onRow: (row: string) => void;
  onEmail?: (id: string) => void; // opens an email; by the log where it is not given
  mayEdit: boolean;
  mayLocked: boolean; // locked columns too
  edits: Edits;
}) {
  const q = api.useQuery("get", "/sheets/{sheet}/rows/{row}", { params: { path: { sheet: sheet.id, row } } });
  const now = useNow();
  const navigate = useNavigate();
  const [fixing, setFixing] = useState(fix);
  const at = (t: string) => moment(t, sheet.zone, now);
  const remove = () => {
    edits.change("delete", [{ op: "delete", row }], (r) => {
      toast("Row deleted. Nothing more goes out for it.", {
        action: { label: "Undo", onClick: () => edits.undo(r.id) },
      });
    });
    onClose();
  };
  if (!q.data)
    return (
      <Slip title="Row" onClose={onClose}>
        <Await query={q} />
      </Slip>
    );
  const d = q.data;
  const named = d.row.cells[sheet.columns.findIndex((c) => c.id === sheet.nameColumn)]?.text;
  return (
    <Slip
      title={`Row ${d.row.name}`}
      onClose={onClose}
      wide
      head={
        <span className="min-w-0 truncate">
          <b className="text-ink">{d.row.name}</b>
          {named && `, ${named}`}
        </span>
      }
      foot={
        mayEdit && (
          <button type="button" className="link text-brick!" onClick={remove}>
            Delete this row
          </button>
        )
      }
    >
      {d.row.gone && (
        <p className="mt-2 text-brick">
          This row is gone: it is no longer in the file it came from. Nothing goes out for it.
        </p>
      )}
      {d.row.unsettled && (
        <p className="mt-2 text-marigold">Edited a moment ago; its changes count once the row has rested.</p>
      )}
      {byColumn(d.row.faults ?? []).map(([column, faults]) => (
        <p key={column ?? ""} className="mt-2 flex items-start gap-2">
          <span className="flex flex-none gap-1">
            {faults.map((f) => (
              <MarkIcon key={f.rule} letter={f.letter} kind="incomplete" />
            ))}
          </span>
          <span className="min-w-0 flex-1 text-brick">
            {faults.length === 1 ? `${faults[0]?.name} cannot` : "These rules cannot"} judge this row:{" "}
            {faultWords(sheet, d.row, column)}.
          </span>
          {mayEdit && column && (
            <button type="button" className="act-plain flex-none" onClick={() => setFixing(column)}>
              Fix
            </button>
          )}
        </p>
      ))}
      {d.same && (
        <SameKey
          sheet={sheet}
          row={d.row}
          same={d.same}
          mayEdit={mayEdit}
          mayLocked={mayLocked}
          edits={edits}
          onRow={onRow}
        />
      )}
      <Section title="Cells">
        <Cells
          key={fixing}
          sheet={sheet}
          row={d.row}
          edits={edits}
          mayEdit={mayEdit}
          mayLocked={mayLocked}
          fix={fixing}
        />
      </Section>
      {why && <WhySection sheet={sheet} row={row} by={why} />}
      <Section title="Coming">
        {d.coming.length === 0 && <p className="text-ink-2">Nothing that can be foreseen.</p>}
        {d.coming.map((m) => (
          <ComingEmail key={m.occasion} sheet={sheet} row={row} email={m} may={mayEdit} />
        ))}
      </Section>
      {!why && <WhySection sheet={sheet} row={row} />}
      <Section title="Emails">
        {d.emails.length === 0 && <p className="text-ink-2">None yet.</p>}
        {d.emails.map((l) => (
          <button
            key={l.id}
            type="button"
            onClick={() => (onEmail ? onEmail(l.id) : void navigate({ to: "/log", search: { email: l.id } }))}
            className="flex w-full items-center gap-2 border-b border-hair-2 py-1 text-left hover:bg-wash"
          >
            <MarkIcon letter={l.letter} kind={l.kind} />
            <span className="w-28 flex-none whitespace-nowrap">{at(l.at)}</span>
            <span className="min-w-0 flex-1">
              <span className="block truncate">{l.subject || l.outcome.split(";")[0]}</span>
              {l.until && <span className="block text-marigold">goes once that is fixed, until {at(l.until)}</span>}
            </span>
            <span className="text-ink-2">{l.subject ? l.outcome.split(":")[0] : ""}</span>
          </button>
        ))}
      </Section>
      <Section title="History">
        {d.history.map((h, i) => (
          <div key={i} className="border-b border-hair-2 py-1">
            <span className="text-ink-2">
              {at(h.at)}, {h.actor} {did[h.kind] ?? h.kind}
            </span>
            {(h.kind === "row-edited" || h.kind === "set-aside") &&
              h.changes.map((c) => (
                <div key={c.name}>
                  {c.name}: <s className="text-ink-2">{c.before || "empty"}</s> {c.after || "empty"}
                </div>
              ))}
          </div>
        ))}
        {d.history.length === 0 && <p className="text-ink-2">As it was imported.</p>}
      </Section>
    </Slip>
  );
}

// Faults by the column that is to be mended.
function byColumn(faults: NonNullable<Row["faults"]>): [string | undefined, typeof faults][] {
  const out = new Map<string | undefined, typeof faults>();
  for (const f of faults) out.set(f.column, [...(out.get(f.column) ?? []), f]);
  return [...out];
}

// What keeps a rule from judging a row.
function faultWords(sheet: Sheet, row: Row, column: string | undefined): string {
  const i = sheet.columns.findIndex((c) => c.id === column);
  const c = nameable(sheet).find((x) => x.id === column);
  if (!c) return "it has no address to write to";
  return `${c.name} ${i < 0 || row.cells[i]?.text ? "cannot be read" : "is empty"}`;
}

// Why the row gets or does not get its next email, rule by rule.
function WhySection({ sheet, row, by }: { sheet: Sheet; row: string; by?: string }) {
  const rules = api.useQuery("get", "/sheets/{sheet}/rules", { params: { path: { sheet: sheet.id } } });
  const [open, setOpen] = useState(by);
  const rule = rules.data?.find((r) => r.id === open);
  const why = useWhy(sheet.id, rule?.body, open, row);
  if (!rules.data?.length) return null;
  return (
    <Section title="Why, and why not">
      <div className="flex flex-wrap gap-x-4 gap-y-1">
        {rules.data.map((r) => (
          <button
            key={r.id}
            type="button"
            aria-expanded={r.id === open}
            className="flex items-center gap-1.5 hover:underline"
            onClick={() => setOpen(r.id === open ? undefined : r.id)}
          >
            <MarkIcon
              letter={r.letter}
              kind={r.state === "on" ? "accepted" : r.state === "paused" ? "held" : "incomplete"}
            />
            {r.body.name}
          </button>
        ))}
      </div>
      {rule && (
        <div className="mt-2 border-t border-hair-2 pt-2">
          {rule.state !== "on" && (
            <p className="mb-1 text-marigold">The rule {rule.state === "paused" ? "is paused" : "is not on yet"}.</p>
          )}
          {why.error && (
            <p role="alert" className="text-ink-2">
              {words(why.error)}
            </p>
          )}
          {why.data && <Why why={why.data} sheet={sheet} ahead={false} />}
        </div>
      )}
    </Section>
  );
}
