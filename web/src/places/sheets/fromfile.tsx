import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { type Schemas, type Sheet, upload, words } from "../../api/client";
import { useHanded } from "../../parts/dropfile";
import { RowsFile } from "../../parts/rowsfile";
import { count } from "../../parts/time";
import { SetsOff } from "./sets";
import { FileColumns, FileNotes, openOrders, Part } from "./filecolumns";
import { useFile } from "./usefile";

type Plan = Schemas["ImportResult"];

// Rows of a file met by key with those of a sheet: first which column is which,
// then what it would do, then doing it.
export function FromFile({ sheet }: { sheet: Sheet }) {
  const f = useFile(sheet.id, sheet.locale);
  useHanded((file) => void f.look(file));
  const [plan, setPlan] = useState<Plan>();
  const [keep, setKeep] = useState(false);
  const [busy, setBusy] = useState(false);
  const navigate = useNavigate();
  const key = sheet.columns.find((c) => c.id === sheet.key);
  const open = openOrders(f.guesses, f.choices, f.answered);
  const keyed = !key || f.choices.some((c) => c.to === key.id);
  const parts = (k: boolean, ask?: boolean) => ({
    spec: JSON.stringify({
      keep: k,
      ask,
      columns: f.choices.map((c) => ({
        name: c.name || "unnamed",
        type: c.type,
        order: c.order,
        format: c.format,
        to: c.to,
        group: c.group,
      })),
    }),
    ...f.part,
  });
  const send = async <T,>(path: string, k: boolean, ask?: boolean): Promise<T | undefined> => {
    if (!f.file) return;
    setBusy(true);
    f.setError("");
    try {
      return await upload<T>(`/sheets/${sheet.id}/import${path}`, { ...parts(k, ask), file: f.file });
    } catch (e) {
      f.setError(words(e));
    } finally {
      setBusy(false);
    }
  };
  const work = async (k: boolean) => setPlan(await send<Plan>("/plan", k));
  const apply = async (ask?: boolean) => {
    const job = await send<Schemas["Job"]>("", keep, ask);
    if (job) void navigate({ to: "/sheets/$sheet", params: { sheet: sheet.id }, search: { job: job.id } });
  };
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 px-5 py-3">
        <RowsFile
          onFile={(file) => {
            setPlan(undefined);
            void f.look(file);
          }}
        />
        {f.file && (f.preview ?? f.error) && (
          <Part
            preview={f.preview}
            part={f.part}
            onPart={(part) => {
              setPlan(undefined);
              if (f.file) void f.look(f.file, part);
            }}
          />
        )}
        <span className="text-ink-2">
          {key ? (
            <>
              Rows are matched by <b className="text-ink">{key.name}</b>: one that is there is changed, one that is not
              is added.
            </>
          ) : (
            "This sheet has no key column, so every row of the file is added."
          )}
        </span>
      </div>
      <p role="alert" className="px-5 text-brick">
        {f.error}
      </p>
      {f.preview && <FileNotes preview={f.preview} />}
      {f.preview && (
        <>
          <div
            className="min-h-0 flex-1 overflow-auto border-t border-hair bg-sheet px-5 pt-2 pb-4"
            tabIndex={0}
            role="region"
            aria-label="The file"
          >
            {plan ? (
              <>
                {plan.sets && plan.new + plan.changed + plan.gone > 0 && (
                  <section className="max-w-4xl pb-3">
                    <h2 className="mb-1">What it sets off</h2>
                    <SetsOff sheet={sheet} sets={plan.sets} />
                  </section>
                )}
                <Differences plan={plan} keep={keep} />
              </>
            ) : (
              <FileColumns
                preview={f.preview}
                guesses={f.guesses}
                choices={f.choices}
                open={open}
                into={sheet}
                onChange={f.put}
                onAnswer={f.answer}
              />
            )}
          </div>
          <div className="flex flex-wrap items-center gap-4 border-t border-hair px-5 py-3">
            {plan ? (
              <>
                <button
                  type="button"
                  className="act"
                  disabled={busy || plan.new + plan.changed + plan.gone === 0}
                  onClick={() => void apply()}
                >
                  {actWords(plan)}
                </button>
                {plan.sets?.rules.some((r) => r.now > 0) && (
                  <button type="button" className="act-plain" disabled={busy} onClick={() => void apply(true)}>
                    The same, and hold what it sets off
                  </button>
                )}
                {key && (
                  <label className="flex items-center gap-2">
                    <input
                      type="checkbox"
                      className="accent-juniper"
                      checked={keep}
                      onChange={(e) => {
                        setKeep(e.target.checked);
                        void work(e.target.checked);
                      }}
                    />
                    keep rows as they are that the file does not have
                  </label>
                )}
                <button type="button" className="link" onClick={() => setPlan(undefined)}>
                  Back to the columns
                </button>
                <span className="text-ink-2">One step, which can be undone.</span>
              </>
            ) : (
              <>
                <button
                  type="button"
                  className="act"
                  disabled={busy || f.busy || open.length > 0 || !keyed}
                  onClick={() => void work(keep)}
                >
                  See what {count(f.preview.rows, "row")} would change
                </button>
                {!keyed && (
                  <span className="text-marigold">
                    Say first which column of the file is {key?.name}; rows are matched by it.
                  </span>
                )}
                {open.length > 0 && (
                  <span className="text-marigold">
                    Say in which order the dates of {open.map((i) => f.choices[i]?.name).join(" and ")} are written.
                  </span>
                )}
              </>
            )}
          </div>
        </>
      )}
    </>
  );
}

function actWords(p: Plan): string {
  if (p.new + p.changed + p.gone === 0) return "Nothing to change";
  const parts = [];
  if (p.new > 0) parts.push(`add ${count(p.new, "row")}`);
  if (p.changed > 0) parts.push(`change ${p.changed.toLocaleString("en-GB")}`);
  if (p.gone > 0) parts.push(`mark ${p.gone.toLocaleString("en-GB")} as gone`);
  const s = parts.join(", ");
  return s.charAt(0).toUpperCase() + s.slice(1);
}

// What a file would change, by key: counted, and the first rows cell by cell.
export function Differences({ plan, keep }: { plan: Plan; keep: boolean }) {
  const n = (x: number) => x.toLocaleString("en-GB");
  return (
    <div className="flex flex-wrap gap-x-12 gap-y-4 pt-2">
      <table className="tbl w-[360px]! self-start">
        <tbody>
          {(
            [
              ["new", plan.new],
              [`changed, in ${n(plan.cells)} cells`, plan.changed],
              ["unchanged", plan.unchanged],
              [
                `no longer in the file, ${keep ? "kept as they are" : "to be marked as gone"}`,
                keep ? plan.absent : plan.gone,
              ],
              ["with a key that stood before in the file, each a row of its own", plan.doubled],
              ["without a key, kept as rows of their own", plan.keyless],
              ["cells that do not fit, kept as it is", plan.unreadable],
            ] as const
          ).map(([w, x]) => (
            <tr key={w}>
              <td>{w}</td>
              <td className={`text-right ${x === 0 ? "text-ink-2" : "font-semibold"}`}>{n(x)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="min-w-[420px] flex-1">
        {plan.samples.length > 0 && (
          <table className="tbl">
            <thead>
              <tr>
                <th>Row</th>
                <th>Column</th>
                <th>Now</th>
                <th>In the file</th>
              </tr>
            </thead>
            <tbody>
              {plan.samples.flatMap((r) =>
                r.changes.length === 0
                  ? [
                      <tr key={r.row}>
                        <td>{r.name}</td>
                        <td colSpan={3} className="text-ink-2">
                          is back
                        </td>
                      </tr>,
                    ]
                  : r.changes.map((c, i) => (
                      <tr key={r.row + c.column}>
                        <td>
                          {i === 0 ? r.name : ""}
                          {i === 0 && r.returns ? <span className="text-ink-2"> is back</span> : ""}
                        </td>
                        <td>{c.name}</td>
                        <td className="text-ink-2">{c.before || "empty"}</td>
                        <td>
                          {c.after ? (
                            <span className={c.bad ? "bad" : ""}>{c.after}</span>
                          ) : (
                            <span className="text-ink-2">empty</span>
                          )}
                        </td>
                      </tr>
                    )),
              )}
            </tbody>
          </table>
        )}
        {plan.changed > plan.samples.length && (
          <p className="py-2 text-ink-2">The first {n(plan.samples.length)} changed rows are shown.</p>
        )}
        {plan.goneNames.length > 0 && (
          <p className="py-2 text-ink-2">
            No longer in the file: {plan.goneNames.slice(0, 40).join(", ")}
            {plan.gone > 40 ? " …" : ""}
          </p>
        )}
      </div>
    </div>
  );
}
