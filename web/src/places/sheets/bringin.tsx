import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { type Schemas, type Sheet, upload, words } from "../../api/client";
import { Slip } from "../../parts/slip";
import { count } from "../../parts/time";
import { CsvFile } from "../../parts/csvfile";

// Rows of a file met by key with those of a sheet: first what it would do,
// then doing it.
export function BringIn({ sheet, onClose }: { sheet: Sheet; onClose: () => void }) {
  const [file, setFile] = useState<File>();
  const [plan, setPlan] = useState<Schemas["ImportResult"]>();
  const [error, setError] = useState("");
  const [busy, setBusy] = useState(false);
  const client = useQueryClient();
  const key = sheet.columns.find((c) => c.id === sheet.key)?.name;
  const send = async (f: File, dry: boolean) => {
    setBusy(true);
    setError("");
    try {
      const r = await upload<Schemas["ImportResult"]>(`/sheets/${sheet.id}/import`, { dry: String(dry), file: f });
      if (dry) return setPlan(r);
      toast.success(`${count(r.new, "row")} added, ${r.changed} changed, ${r.gone} gone.`);
      await client.invalidateQueries();
      onClose();
    } catch (e) {
      setPlan(undefined);
      setError(words(e));
    } finally {
      setBusy(false);
    }
  };
  return (
    <Slip
      title="Bring rows in"
      onClose={onClose}
      head={<b className="text-ink">Bring rows in</b>}
      foot={
        plan &&
        file && (
          <button
            type="button"
            className="act"
            disabled={busy || plan.new + plan.changed + plan.gone === 0}
            onClick={() => send(file, false)}
          >
            Add {plan.new}, change {plan.changed}, mark {plan.gone} as gone
          </button>
        )
      }
    >
      <p className="mt-2 mb-3">
        A CSV file whose first line names the columns.{" "}
        {key ? (
          <>
            Rows are met by <b>{key}</b>: one that is there is changed, one that is not is added. A row that the file no longer has is kept
            and marked as gone; nothing goes out for it.
          </>
        ) : (
          "This sheet has no key column, so every row of the file is added."
        )}
      </p>
      <CsvFile
        onFile={(f) => {
          setFile(f);
          void send(f, true);
        }}
      />
      <p role="alert" className="mt-3 text-brick">
        {error}
      </p>
      {plan && (
        <table className="tbl mt-3">
          <tbody>
            {(
              [
                ["new", plan.new],
                ["changed", plan.changed],
                ["unchanged", plan.unchanged],
                ["no longer in the file, marked as gone", plan.gone],
                ["with a doubled key, kept as rows of their own", plan.doubled],
                ["without a key, kept as rows of their own", plan.keyless],
              ] as const
            ).map(([w, n]) => (
              <tr key={w}>
                <td>{w}</td>
                <td className="text-right">{n.toLocaleString("en-GB")}</td>
              </tr>
            ))}
            {plan.unknown.length > 0 && (
              <tr>
                <td>columns of the file that the sheet does not have, passed over</td>
                <td>{plan.unknown.join(", ")}</td>
              </tr>
            )}
          </tbody>
        </table>
      )}
    </Slip>
  );
}
