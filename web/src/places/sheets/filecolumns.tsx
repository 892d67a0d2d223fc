import type { ReactNode } from "react";
import type { Schemas, Sheet } from "../../api/client";
import { typeName } from "./cell";
import type { FilePart } from "./usefile";

export type Preview = Schemas["ImportPreview"];
export type Guess = Schemas["GuessedColumn"];
export type Choice = {
  name: string;
  type: Guess["type"];
  order?: Guess["order"];
  format?: Guess["format"];
  skip: boolean;
  to?: string;
  group?: string;
};
export const columnTypes = ["text", "number", "date", "moment", "yes/no", "choice", "email", "file"] as const;
export const dayOrders = ["day-month-year", "month-day-year", "year-month-day"] as const;
const isDated = (c: Choice) => c.type === "date" || c.type === "moment";

// The columns whose dates the file leaves open, and nobody has answered yet.
export function openOrders(guesses: Guess[], choices: Choice[], answered: Record<number, boolean>): number[] {
  return guesses
    .map((g, i) => {
      const c = choices[i];
      const asked = c && !c.skip && (c.to === undefined || c.to === "+") && isDated(c);
      return g.askDay && asked && !answered[i] ? i : -1;
    })
    .filter((i) => i >= 0);
}

const separators = [
  [",", "commas"],
  [";", "semicolons"],
  ["\t", "tabs"],
  ["|", "vertical bars"],
];
const encodings = ["UTF-8", "UTF-16", "Windows-1252", "ISO-8859-1"];

// Which part of a workbook the table is; of a text, how it is read. A text that could not be read
// has no preview, and may be read otherwise.
export function Part({
  preview,
  part,
  onPart,
}: {
  preview?: Preview;
  part: FilePart;
  onPart: (part: FilePart) => void;
}) {
  if (!preview || preview.worksheets.length === 0)
    return (
      <>
        <label className="flex items-center gap-2">
          Separated by
          <select
            className="field"
            value={part.separator}
            onChange={(e) => onPart({ ...part, separator: e.target.value })}
          >
            <option value="">{preview ? `${preview.separator}, as found` : "what is found"}</option>
            {separators.map(([sign, name]) => (
              <option key={sign} value={sign}>
                {name}
              </option>
            ))}
          </select>
        </label>
        <label className="flex items-center gap-2">
          Encoding
          <select
            className="field"
            value={part.encoding}
            onChange={(e) => onPart({ ...part, encoding: e.target.value })}
          >
            <option value="">{preview ? `${preview.encoding}, as found` : "what is found"}</option>
            {encodings.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </label>
      </>
    );
  return (
    <>
      <label className="flex items-center gap-2">
        Worksheet
        <select
          className="field"
          value={preview.worksheet}
          onChange={(e) => onPart({ ...part, worksheet: e.target.value, heading: "" })}
        >
          {preview.worksheets.map((w) => (
            <option key={w}>{w}</option>
          ))}
        </select>
      </label>
      <label className="flex items-center gap-2">
        Columns named in row
        <input
          type="number"
          min={1}
          className="field w-18"
          value={part.heading}
          placeholder="first"
          onChange={(e) => onPart({ ...part, worksheet: preview.worksheet, heading: e.target.value })}
        />
      </label>
    </>
  );
}

// What of a file needs a look before its rows are taken.
export function FileNotes({ preview }: { preview: Preview }) {
  const { rounded, unnamed } = preview;
  if (rounded.length + unnamed.length === 0) return null;
  return (
    <ul className="px-5 pb-2 text-marigold">
      {unnamed.length > 0 && (
        <li>
          {unnamed.length === 1
            ? `Column ${unnamed[0]} holds something under no heading.`
            : `Columns ${unnamed.join(", ")} hold something under no heading.`}{" "}
          Name what is to be imported.
        </li>
      )}
      {rounded.length > 0 && (
        <li>
          Numbers of more than 15 digits stand in line {rounded.join(", ")}
          {rounded.length > 7 && " and on"}: the workbook has rounded them. Keep such numbers as text in it.
        </li>
      )}
    </ul>
  );
}

// The columns of a file: what they are taken for, how much of them fits, and
// the first cells that do not. Where the rows go into a sheet, also into which
// of its columns.
export function FileColumns({
  preview,
  guesses,
  choices,
  open,
  into,
  onChange,
  onAnswer,
  extra,
  extraHeads = [],
}: {
  preview: Preview;
  guesses: Guess[];
  choices: Choice[];
  open: number[];
  into?: Sheet;
  onChange: (i: number, c: Partial<Choice>) => void;
  onAnswer: (i: number) => void;
  extra?: (i: number, c: Choice) => ReactNode;
  extraHeads?: string[];
}) {
  return (
    <table className="tbl [&_td]:align-middle!">
      <thead>
        <tr>
          <th>{into ? "Column of the file" : "Column"}</th>
          {into && <th>Goes into</th>}
          <th>{into ? "Type" : "Read as"}</th>
          <th>Fits</th>
          <th>First that do not</th>
          {extraHeads.map((h) => (
            <th key={h}>{h}</th>
          ))}
          {!into && <th>Don’t import</th>}
          <th>First rows</th>
        </tr>
      </thead>
      <tbody>
        {choices.map((c, i) => {
          const g = guesses[i];
          if (!g) return null;
          const fresh = !into || c.to === "+";
          const out = c.skip || c.to === "";
          const met = into?.columns.find((x) => x.id === c.to);
          return (
            <tr key={i} className={out ? "opacity-60" : ""}>
              <td>
                {fresh ? (
                  <input
                    className="field w-40"
                    aria-label={`Name of column ${i + 1}`}
                    value={c.name}
                    onChange={(e) => onChange(i, { name: e.target.value })}
                  />
                ) : (
                  c.name
                )}
              </td>
              {into && (
                <td>
                  <select
                    className="field w-44"
                    aria-label={`Column for ${c.name}`}
                    value={c.group ? `+${c.group}` : (c.to ?? "")}
                    onChange={(e) => {
                      const fresh = e.target.value.startsWith("+");
                      const met = into.columns.find((x) => x.id === e.target.value);
                      onChange(i, {
                        to: fresh ? "+" : e.target.value,
                        group: fresh ? e.target.value.slice(1) || undefined : undefined,
                        order: met ? met.order : (c.order ?? "day-month-year"),
                      });
                    }}
                  >
                    <option value="">not imported</option>
                    <option value="+">a new column</option>
                    {[...new Set(into.columns.map((x) => x.group).filter(Boolean))].map((g) => (
                      <option key={g} value={`+${g}`}>
                        a new column of {g}
                      </option>
                    ))}
                    {into.columns
                      .filter((x) => x.type !== "formula")
                      .map((x) => (
                        <option key={x.id} value={x.id} disabled={choices.some((o, k) => k !== i && o.to === x.id)}>
                          {x.name}
                        </option>
                      ))}
                  </select>
                </td>
              )}
              <td className="whitespace-nowrap">
                {fresh ? (
                  <>
                    <select
                      className="field"
                      aria-label={`Type of ${c.name}`}
                      value={c.type}
                      onChange={(e) =>
                        onChange(i, {
                          type: e.target.value as Choice["type"],
                          order: ["date", "moment"].includes(e.target.value)
                            ? (c.order ?? "day-month-year")
                            : undefined,
                        })
                      }
                    >
                      {columnTypes.map((t) => (
                        <option key={t} value={t}>
                          {typeName(t)}
                        </option>
                      ))}
                    </select>
                    {isDated(c) && (
                      <DayOrder
                        c={c}
                        asked={open.includes(i)}
                        onChange={(order) => onChange(i, { order })}
                        onAnswer={() => onAnswer(i)}
                      />
                    )}
                    {c.type === "number" && c.format && (
                      <div className="pt-0.5 text-ink-2">{formatWords(c.format)}</div>
                    )}
                    {c.type === "choice" && (
                      <div className="max-w-56 truncate pt-0.5 text-ink-2">{g.options.join(", ")}</div>
                    )}
                  </>
                ) : (
                  !out && (
                    <>
                      <span className="text-ink-2">{met && typeName(met.type)}</span>
                      {(met?.type === "date" || met?.type === "moment") && (
                        <DayOrder c={c} asked={false} onChange={(order) => onChange(i, { order })} />
                      )}
                    </>
                  )
                )}
              </td>
              <td className="text-right whitespace-nowrap">
                {g.filled === 0 ? (
                  "empty"
                ) : g.fit === g.filled ? (
                  "all"
                ) : (
                  <span className="text-brick">{Math.floor((100 * g.fit) / g.filled)} %</span>
                )}{" "}
                <span className="text-ink-2">of {g.filled.toLocaleString("en-GB")}</span>
              </td>
              <td>
                {g.misfits.map((m) => (
                  <div key={m.line} title={m.why}>
                    line {m.line}: <span className="bad">{m.text}</span>
                  </div>
                ))}
              </td>
              {extra?.(i, c)}
              {!into && (
                <td>
                  <input
                    type="checkbox"
                    className="accent-juniper"
                    aria-label={`Don’t import ${c.name}`}
                    checked={c.skip}
                    onChange={(e) => onChange(i, { skip: e.target.checked })}
                  />
                </td>
              )}
              <td className="max-w-72 truncate text-ink-2">
                {preview.sample
                  .slice(0, 4)
                  .map((r) => r[i])
                  .filter(Boolean)
                  .join(" · ")}
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

// How the numbers of a column are written, as the file shows them.
function formatWords(f: NonNullable<Choice["format"]>): string {
  const digits =
    (f.thousands ? "1,240" : "1240") + (f.decimals ? `.${"50".padEnd(f.decimals, "0").slice(0, f.decimals)}` : "");
  return `written like ${f.currency ?? ""}${digits}${f.percent ? "%" : ""}`;
}

// In which order the dates of a column of the file are written.
function DayOrder({
  c,
  asked,
  onChange,
  onAnswer,
}: {
  c: Choice;
  asked: boolean; // nobody has said it yet
  onChange: (o: Choice["order"]) => void;
  onAnswer?: () => void;
}) {
  const name = `Order of the dates in ${c.name}`;
  if (asked)
    return (
      <span role="group" aria-label={name} className="mt-1 flex items-center gap-1.5">
        <span className="text-marigold">first the</span>
        {(["day-month-year", "month-day-year"] as const).map((o) => (
          <button
            key={o}
            type="button"
            className="act-plain"
            onClick={() => {
              onChange(o);
              onAnswer?.();
            }}
          >
            {o.split("-")[0]}
          </button>
        ))}
      </span>
    );
  return (
    <select
      className="field ml-1"
      aria-label={name}
      value={c.order}
      onChange={(e) => onChange(e.target.value as Choice["order"])}
    >
      {dayOrders.map((o) => (
        <option key={o} value={o}>
          {o.replaceAll("-", ", ")}
        </option>
      ))}
    </select>
  );
}
