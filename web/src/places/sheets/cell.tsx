import type { ReactNode } from "react";
import type { Column, Schemas, Sheet } from "../../api/client";

export const rowHeight = 30;
export const keyWidth = 92;
export const widths: Record<string, number> = {
  text: 164,
  number: 104,
  date: 108,
  moment: 140,
  "yes/no": 76,
  choice: 112,
  email: 224,
  file: 180,
  formula: 110,
};
export const rightAligned = ["number", "date", "moment"];
/** What a type of column is called. */
export const typeName = (type: string) => ({ moment: "date and time", formula: "calculated" })[type] ?? type;
export const valueType = (c: Column) => (c.type === "formula" ? (c.result ?? "text") : c.type);
/** Reports whether a column holds days or moments. */
export const isDate = (c: Column) => ["date", "moment"].includes(valueType(c));
/** The columns that rules, letters and filters may name: those of the sheet, and what is meant of its groups. */
export const nameable = (s: Sheet) => [...s.columns, ...s.derived];
export const widthOf = (c: Column) => c.width || widths[valueType(c)] || 140;

// One cell of the grid: what it holds, whether it is selected, and who else is at it. Its text stands
// in the middle of a row's height, less the line below it.
export function CellBox({
  id,
  cell,
  column,
  here,
  picked,
  pending,
  by,
  guests,
  needed,
  head,
  left,
  className = "",
  width,
  children,
  colIndex,
}: {
  id?: string;
  cell?: Schemas["Cell"];
  column?: Column;
  here: boolean; // the cursor is on it
  picked: boolean; // it is within the selection
  pending?: string; // typed, and not saved yet
  by?: string; // initials of who has just changed it
  guests?: string[]; // initials of who is at it
  needed?: boolean; // a rule cannot judge the row for want of it
  head?: boolean;
  left?: number; // where it stays in sight
  className?: string;
  width: number;
  children?: ReactNode; // the editor, or a button
  colIndex: number;
}) {
  const right = column && rightAligned.includes(valueType(column)) && !cell?.bad && pending === undefined;
  const ring = here
    ? "outline-2 -outline-offset-2 outline-juniper"
    : guests?.length
      ? "outline-[1.5px] -outline-offset-2 outline-dashed outline-plum"
      : "";
  return (
    <div
      id={id}
      role={head ? "rowheader" : "gridcell"}
      aria-selected={picked || here}
      aria-colindex={colIndex}
      data-col={colIndex}
      className={`relative h-full flex-none truncate px-2.5 leading-[29px] ${right ? "text-right" : ""} ${ring} ${picked ? "bg-picked!" : ""} ${left !== undefined ? "sticky z-10" : ""} ${className}`}
      style={{ width, left }}
    >
      {pending !== undefined ? (
        <span className="text-marigold italic" title="Not saved yet">
          {pending}
          <span className="sr-only"> (not saved yet)</span>
        </span>
      ) : cell === undefined ? (
        <span className="inline-block h-2 w-10 rounded-sm bg-hair-2" />
      ) : cell.bad ? (
        <span className="bad" title={cell.why ?? "It cannot be read as this column’s type."}>
          {cell.text}
        </span>
      ) : needed ? (
        <span className="bad">{cell.text || "missing"}</span>
      ) : (
        cell.text // with no element of its own: a screen of cells is drawn anew with every turn of the wheel
      )}
      {(by || guests?.length) && (
        <span
          className={`absolute top-0 right-0 px-0.5 text-[10px] leading-3 font-bold ${by ? "bg-marigold-fill text-[#20242c]" : "bg-plum text-paper"}`}
          title={by ? `Just changed by ${by}` : `${guests?.join(", ")} is here`}
        >
          {by ?? guests?.join(" ")}
        </span>
      )}
      {children}
    </div>
  );
}

/** The room of columns that are not drawn, in pixels. */
export function Gap({ width }: { width: number }) {
  return <div className="flex-none" role="presentation" style={{ width }} />;
}
