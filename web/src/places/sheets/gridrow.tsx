import { Fragment, memo } from "react";
import type { Column, Mark, Row, Schemas, Sheet } from "../../api/client";
import type { Axis } from "../../parts/axis";
import { Track } from "../../parts/track";
import { colIndex, type Drawn } from "./gridlayout";
import { CellBox, Gap, keyWidth, widthOf } from "./cell";
import { initials } from "./presence";

type RowProps = {
  index: number;
  row: Row | undefined;
  sheet: Sheet;
  columns: Column[];
  drawn: Drawn[];
  places: Map<string, number>;
  hasKey: boolean;
  axis: Axis;
  pinned: (number | undefined)[];
  width: number;
  cursor: number; // the column the cursor is in, or -1
  from: number; // the selected columns, or -1
  to: number;
  lights: boolean;
  lit: string | null;
  pending: Map<string, string>;
  touched?: { who: string; cells: string[] };
  guests?: Map<string, string[]>;
  editor: React.ReactNode;
  onMark: (m: Mark) => void;
  onPoint: (m: Mark | null, el?: Element) => void;
  onRow: (row: string) => void;
};

// One row of the grid: its head, its track, its cells.
export const GridRow = memo(function GridRow(p: RowProps) {
  const { row, columns, hasKey, axis } = p;
  const here = p.cursor >= 0;
  const ground = here || p.lights ? "bg-wash" : "bg-sheet";
  const cell = (c: Column, i: number, head: boolean) => {
    const at = p.places.get(c.id) ?? -1;
    const content: Schemas["Cell"] | undefined = row?.cells[at];
    const changed = p.touched && row && p.touched.cells[at] !== content?.text ? initials(p.touched.who) : undefined;
    return (
      <CellBox
        key={c.id}
        id={p.cursor === i ? `cell-${p.index}-${i}` : undefined}
        cell={content}
        column={c}
        here={p.cursor === i}
        picked={p.from >= 0 && i >= p.from && i <= p.to}
        pending={row && p.pending.size > 0 ? p.pending.get(`${row.id}|${c.id}`) : undefined}
        by={changed}
        guests={p.guests?.get(c.id)}
        needed={row?.faults?.some((f) => f.column === c.id)}
        head={head}
        colIndex={colIndex(i, hasKey)}
        left={head ? 0 : p.pinned[i]}
        width={head ? keyWidth : widthOf(c)}
        className={`${head ? "font-semibold" : ""} ${head || p.pinned[i] !== undefined ? ground : ""} ${p.pinned[i] !== undefined && p.pinned[i + 1] === undefined ? "border-r border-hair" : ""}`}
      >
        {p.cursor === i && p.editor}
        {head && row?.doubled && (
          <span
            className="absolute left-px text-[11px] font-bold text-marigold"
            role="img"
            title="Another row had this key before"
            aria-label="Another row had this key before"
          >
            ×
          </span>
        )}
        {head && row && <Open name={row.name} onOpen={() => p.onRow(row.id)} />}
      </CellBox>
    );
  };
  // What flies past is not there yet, and nobody looks at its cells.
  if (!row && !here) return <Blank index={p.index} width={p.width} />;
  return (
    <div
      role="row"
      aria-rowindex={p.index + 2}
      aria-selected={p.from >= 0}
      data-row={p.index}
      className={`group flex h-[30px] border-b border-hair-2 contain-layout contain-size contain-style ${ground} ${row?.gone ? "opacity-60" : ""}`}
      style={{ width: p.width }}
      title={
        row?.gone
          ? "Gone: no longer in the file it came from. Nothing goes out for it."
          : row?.doubled
            ? "Another row had this key before. Each gets its own emails."
            : undefined
      }
    >
      {hasKey ? (
        cell(columns[0] as Column, 0, true)
      ) : (
        <CellBox
          cell={row && { text: row.name }}
          here={false}
          picked={false}
          head
          colIndex={1}
          left={0}
          width={keyWidth}
          className={`font-semibold text-ink-2 ${ground}`}
        >
          {row && <Open name={row.name} onOpen={() => p.onRow(row.id)} />}
        </CellBox>
      )}
      <div
        role="gridcell"
        aria-colindex={2}
        className={`sticky z-10 flex-none border-r border-hair ${ground}`}
        style={{ left: keyWidth, width: axis.width }}
      >
        {row && <Track axis={axis} marks={row.marks} lit={p.lit} onPress={p.onMark} onPoint={p.onPoint} />}
      </div>
      {p.drawn.map(({ index, gap }) => (
        <Fragment key={index}>
          {gap > 0 && <Gap width={gap} />}
          {cell(columns[index] as Column, index, false)}
        </Fragment>
      ))}
    </div>
  );
});

// A row that has not come yet.
function Blank({ index, width }: { index: number; width: number }) {
  return (
    <div
      role="row"
      aria-rowindex={index + 2}
      data-row={index}
      className="h-[30px] border-b border-hair-2 bg-sheet"
      style={{ width }}
    >
      <CellBox here={false} picked={false} colIndex={1} left={0} width={keyWidth} />
    </div>
  );
}

function Open({ name, onOpen }: { name: string; onOpen: () => void }) {
  return (
    <button
      type="button"
      tabIndex={-1}
      className="link absolute right-0 h-full w-4.5 bg-inherit text-base opacity-0 group-hover:opacity-100 focus-visible:opacity-100"
      title="Open the row (Space)"
      aria-label={`Open row ${name}`}
      onMouseDown={(e) => e.stopPropagation()}
      onClick={onOpen}
    >
      ›
    </button>
  );
}
