// Rows that share a key, side by side, and made one: of what differs, one value each.
import { useState } from "react";
import { toast } from "sonner";
import type { Row, Sheet } from "../../api/client";
import { count } from "../../parts/time";
import type { Edits, Step } from "./edits";
import { inputOf } from "./rows";

type Props = {
  sheet: Sheet;
  row: Row;
  same: Row[];
  mayEdit: boolean;
  mayLocked: boolean;
  edits: Edits;
  onRow: (row: string) => void;
};

export function SameKey({ sheet, row, same, mayEdit, mayLocked, edits, onRow }: Props) {
  const [merging, setMerging] = useState(false);
  return (
    <section className="mt-3 border-y border-hair py-2" aria-label="Rows that share this key">
      <p>
        <b className="font-semibold">{count(same.length, "row")} have this key.</b> Each gets its own emails. An import
        meets them in turn: the first in the file is the first here.
      </p>
      <p className="flex flex-wrap gap-x-4">
        {same.map((r, i) =>
          r.id === row.id ? (
            <span key={r.id} className="font-semibold">
              {nth(i)}, this one
            </span>
          ) : (
            <button key={r.id} type="button" className="link" onClick={() => onRow(r.id)}>
              {nth(i)}
            </button>
          ),
        )}
        {mayEdit && !merging && (
          <button type="button" className="act-plain ml-auto" onClick={() => setMerging(true)}>
            Make one of them
          </button>
        )}
      </p>
      {merging && (
        <Merge
          sheet={sheet}
          same={same}
          mayLocked={mayLocked}
          edits={edits}
          onDone={(kept) => {
            setMerging(false);
            onRow(kept);
          }}
          onCancel={() => setMerging(false)}
        />
      )}
    </section>
  );
}

const nth = (i: number) =>
  ["first", "second", "third"][i] ? `the ${["first", "second", "third"][i]}` : `number ${i + 1}`;

type MergeProps = {
  sheet: Sheet;
  same: Row[];
  mayLocked: boolean;
  edits: Edits;
  onDone: (kept: string) => void;
  onCancel: () => void;
};

function Merge({ sheet, same, mayLocked, edits, onDone, onCancel }: MergeProps) {
  const [kept, setKept] = useState(0);
  const [chosen, setChosen] = useState<Record<string, number>>({});
  const stays = same[kept] ?? same[0];
  if (!stays) return null;
  const differing = sheet.columns.flatMap((c, i) => {
    if (c.type === "formula" || (c.locked && !mayLocked)) return [];
    const texts = same.map((r) => inputOf(r, i));
    return new Set(texts).size > 1 ? [{ column: c, at: i, texts }] : [];
  });
  // What the row that stays holds, unless it holds nothing that can be read and another does.
  const from = (d: (typeof differing)[number]) => {
    const own = chosen[d.column.id];
    if (own !== undefined) return own;
    const good = (k: number) => d.texts[k] !== "" && !same[k]?.cells[d.at]?.bad;
    return good(kept)
      ? kept
      : Math.max(
          kept,
          0,
          ...same
            .map((_, k) => k)
            .filter(good)
            .slice(0, 1),
        );
  };
  const cells = Object.fromEntries(
    differing.filter((d) => d.texts[from(d)] !== d.texts[kept]).map((d) => [d.column.id, d.texts[from(d)] ?? ""]),
  );
  const going = same.filter((r) => r.id !== stays.id);
  const coming = going.reduce((n, r) => n + r.marks.filter((m) => !m.delivery).length, 0);
  const make = () => {
    const changed = Object.keys(cells);
    const steps: Step[] = going.map((r) => ({ op: "delete", row: r.id }));
    if (changed.length > 0)
      steps.unshift({
        op: "edit",
        row: stays.id,
        cells,
        expected: Object.fromEntries(
          differing.filter((d) => d.column.id in cells).map((d) => [d.column.id, d.texts[kept] ?? ""]),
        ),
      });
    edits.change("merge", steps, (r) => {
      toast(`One row is left of ${same.length}.`, { action: { label: "Undo", onClick: () => edits.undo(r.id) } });
    });
    onDone(stays.id);
  };
  return (
    <div className="mt-2">
      <fieldset className="flex flex-wrap items-baseline gap-x-4">
        <legend className="sr-only">The row that stays</legend>
        <span>The row that stays, with the emails it has had:</span>
        {same.map((r, i) => (
          <label key={r.id} className="flex items-baseline gap-1.5">
            <input
              type="radio"
              name="kept"
              className="accent-juniper"
              checked={i === kept}
              onChange={() => setKept(i)}
            />
            {nth(i)} ({count(r.marks.filter((m) => m.delivery).length, "email")} lately)
          </label>
        ))}
      </fieldset>
      {differing.length === 0 && <p className="mt-2 text-ink-2">They hold the same in every column.</p>}
      {differing.map((d) => (
        <fieldset key={d.column.id} className="flex items-start gap-3 border-b border-hair-2 py-1">
          <legend className="sr-only">{d.column.name}</legend>
          <span className="w-36 flex-none text-ink-2" aria-hidden>
            {d.column.name}
          </span>
          <span className="flex min-w-0 flex-1 flex-col">
            {d.texts.map((t, k) =>
              d.texts.indexOf(t) === k ? (
                <label key={k} className="flex items-baseline gap-1.5 [overflow-wrap:anywhere]">
                  <input
                    type="radio"
                    name={`value-${d.column.id}`}
                    className="flex-none accent-juniper"
                    checked={d.texts[from(d)] === t}
                    onChange={() => setChosen((c) => ({ ...c, [d.column.id]: k }))}
                  />
                  <span className={same[k]?.cells[d.at]?.bad ? "bad" : t ? "" : "text-ink-2"}>
                    {same[k]?.cells[d.at]?.text || "empty"}
                  </span>
                </label>
              ) : null,
            )}
          </span>
        </fieldset>
      ))}
      <p className="mt-2 flex flex-wrap items-center gap-3">
        <button type="button" className="act" onClick={make}>
          Delete {count(going.length, "row")}
          {Object.keys(cells).length > 0 && `, change ${count(Object.keys(cells).length, "cell")}`}
        </button>
        <button type="button" className="act-plain" onClick={onCancel}>
          Cancel
        </button>
        <span className="text-ink-2">
          {coming > 0 &&
            `${count(coming, "coming email")} of what is deleted ${coming === 1 ? "does" : "do"} not go. `}
          It can be undone.
        </span>
      </p>
    </div>
  );
}
