import { DropdownMenu } from "radix-ui";
import { Fragment, memo, useRef, useState } from "react";
import type { Column, Sheet } from "../../api/client";
import type { Axis } from "../../parts/axis";
import { AxisHead } from "../../parts/track";
import { colIndex, type Drawn } from "./gridlayout";
import { Gap, keyWidth, rightAligned, typeName, valueType, widthOf } from "./cell";
import type { View } from "./view";

// The heads of the columns. Pressing one says what can be done by it; its
// right edge makes it wider. By keyboard one comes to them from the first row.
export const Head = memo(function Head({
  sheet,
  view,
  columns,
  drawn,
  left,
  axis,
  width,
  hasKey,
  may,
  onOrder,
  onFilter,
  onHide,
  onFreeze,
  onEdit,
  onRule,
  onWidth,
  onStep,
  onDown,
}: {
  sheet: Sheet;
  view: View;
  columns: Column[];
  drawn: Drawn[];
  left: (number | undefined)[];
  axis: Axis;
  width: number;
  hasKey: boolean;
  may: boolean; // columns may be changed
  onOrder: (c: Column, down: boolean, also: boolean) => void;
  onFilter: (c: Column) => void;
  onHide: (c: Column) => void;
  onFreeze: (n: number) => void;
  onEdit: (c: Column) => void;
  onRule: (c: Column, when: "date" | "change" | "threshold") => void; // begins a rule
  onWidth: (c: Column, width: number) => void;
  onStep: (col: number) => void; // to the head of another column
  onDown: () => void; // to the rows
}) {
  // What an item does waits until the menu has closed; what opens nothing goes
  // back to the rows.
  const chosen = useRef<(() => void) | null>(null);
  const back = (f: () => void) => () => {
    f();
    onDown();
  };
  const head = (c: Column, i: number, style: React.CSSProperties, className: string) => {
    const order = view.sort?.findIndex((k) => k.column === c.id) ?? -1;
    const down = order >= 0 && view.sort?.[order]?.down;
    const nth = hasKey ? i : i + 1; // of those after the key, from 1
    return (
      <div
        key={c.id}
        role="columnheader"
        aria-colindex={colIndex(i, hasKey)}
        aria-sort={order < 0 ? undefined : down ? "descending" : "ascending"}
        className={`relative flex h-full flex-none items-end pb-1 ${className}`}
        style={style}
      >
        <DropdownMenu.Root modal={false}>
          <DropdownMenu.Trigger asChild>
            <button
              type="button"
              className={`w-full truncate px-2.5 font-[550] hover:text-ink data-[state=open]:text-juniper ${rightAligned.includes(valueType(c)) ? "text-right" : "text-left"}`}
              title={`${c.name}, ${typeName(c.type)}${c.locked ? ", locked" : ""}`}
              tabIndex={-1}
              data-head={i}
              onKeyDown={(e) => {
                if (e.key === "ArrowLeft") onStep(i - 1);
                else if (e.key === "ArrowRight") onStep(i + 1);
                else if (e.key === "Home") onStep(0);
                else if (e.key === "End") onStep(columns.length - 1);
                else if (e.key === "ArrowDown" || e.key === "Escape") onDown();
                else return;
                e.preventDefault();
                e.stopPropagation();
              }}
            >
              {c.name}
              {order >= 0 && <span aria-hidden="true">{down ? " ↓" : " ↑"}</span>}
            </button>
          </DropdownMenu.Trigger>
          <DropdownMenu.Portal container={document.getElementById("content")}>
            <DropdownMenu.Content
              className="pop min-w-56 p-1.5 text-[13px]"
              align="start"
              sideOffset={2}
              onCloseAutoFocus={(e) => {
                const f = chosen.current;
                chosen.current = null;
                if (!f) return;
                e.preventDefault();
                f();
              }}
            >
              <DropdownMenu.Label className="px-2 pb-1 text-xs text-ink-2">
                {c.name}: {c.type === "formula" ? `calculated, ${typeName(c.result ?? "")}` : typeName(c.type)}
                {c.locked ? ", locked" : ""}
              </DropdownMenu.Label>
              <Item onSelect={() => (chosen.current = back(() => onOrder(c, false, false)))}>Sort ascending</Item>
              <Item onSelect={() => (chosen.current = back(() => onOrder(c, true, false)))}>Sort descending</Item>
              {(view.sort?.length ?? 0) > 0 && order < 0 && (
                <Item onSelect={() => (chosen.current = back(() => onOrder(c, false, true)))}>Then sort by this</Item>
              )}
              <Item onSelect={() => (chosen.current = () => onFilter(c))}>Only rows where it …</Item>
              {may && (
                <>
                  <DropdownMenu.Separator className="my-1 h-px bg-hair-2" />
                  {rulesFrom(c).map(([when, words]) => (
                    <Item key={when} onSelect={() => (chosen.current = () => onRule(c, when))}>
                      {words}
                    </Item>
                  ))}
                  <DropdownMenu.Separator className="my-1 h-px bg-hair-2" />
                  {!(hasKey && i === 0) && <Item onSelect={() => (chosen.current = back(() => onHide(c)))}>Hide</Item>}
                  {!(hasKey && i === 0) && (
                    <Item onSelect={() => (chosen.current = back(() => onFreeze(sheet.frozen === nth ? 0 : nth)))}>
                      {sheet.frozen === nth ? "Unfreeze" : "Freeze up to here"}
                    </Item>
                  )}
                  <Item onSelect={() => (chosen.current = () => onEdit(c))}>Change this column …</Item>
                </>
              )}
            </DropdownMenu.Content>
          </DropdownMenu.Portal>
        </DropdownMenu.Root>
        {may && !(hasKey && i === 0) && <Edge width={widthOf(c)} onWidth={(w) => onWidth(c, w)} />}
      </div>
    );
  };
  return (
    <div role="rowgroup" className="sticky top-0 z-20" style={{ width }}>
      <div
        role="row"
        aria-rowindex={1}
        className="flex h-[38px] items-end border-b border-hair bg-paper text-xs text-ink-2"
      >
        {hasKey ? (
          head(columns[0] as Column, 0, { width: keyWidth, left: 0 }, "sticky! z-10 bg-paper")
        ) : (
          <div
            role="columnheader"
            aria-colindex={1}
            className="sticky left-0 z-10 flex h-full flex-none items-end bg-paper px-2.5 pb-1 font-[550]"
            style={{ width: keyWidth }}
          >
            Row
          </div>
        )}
        <div
          role="columnheader"
          aria-colindex={2}
          className="sticky z-10 h-full flex-none border-r border-hair bg-paper"
          style={{ left: keyWidth, width: axis.width }}
        >
          <span className="sr-only">Track</span>
          <AxisHead axis={axis} />
        </div>
        {drawn.map(({ index: i, gap }) => (
          <Fragment key={i}>
            {gap > 0 && <Gap width={gap} />}
            {head(
              columns[i] as Column,
              i,
              { width: widthOf(columns[i] as Column), left: left[i] },
              left[i] === undefined
                ? ""
                : `sticky! z-10 bg-paper ${left[i + 1] === undefined ? "border-r border-hair" : ""}`,
            )}
          </Fragment>
        ))}
      </div>
    </div>
  );
});

// What rules a column invites.
function rulesFrom(c: Column): ["date" | "change" | "threshold", string][] {
  const type = valueType(c);
  return [
    ...(type === "date" || type === "moment" ? [["date", "Remind before this date …"] as ["date", string]] : []),
    ...(type === "number" ? [["threshold", "Write when this passes a limit …"] as ["threshold", string]] : []),
    ["change", type === "choice" || type === "yes/no" ? "Write when this becomes …" : "Write when this changes …"],
  ];
}

function Item({ onSelect, children }: { onSelect: () => void; children: React.ReactNode }) {
  return (
    <DropdownMenu.Item
      className="cursor-pointer rounded-sm px-2 py-1 outline-none data-[highlighted]:bg-wash"
      onSelect={onSelect}
    >
      {children}
    </DropdownMenu.Item>
  );
}

function Edge({ width, onWidth }: { width: number; onWidth: (w: number) => void }) {
  const [dragged, setDragged] = useState<number | null>(null);
  const from = useRef({ x: 0, width });
  return (
    <div
      className="absolute top-0 right-0 z-10 h-full w-1.5 cursor-col-resize border-r-2 border-transparent hover:border-juniper"
      title="Drag to change the width"
      onPointerDown={(e) => {
        e.preventDefault();
        e.currentTarget.setPointerCapture(e.pointerId);
        from.current = { x: e.clientX, width };
        setDragged(0);
      }}
      onPointerMove={(e) => dragged !== null && setDragged(e.clientX - from.current.x)}
      onPointerUp={(e) => {
        setDragged(null);
        const w = Math.max(48, Math.min(900, from.current.width + e.clientX - from.current.x));
        if (w !== width) onWidth(w);
      }}
    >
      {dragged !== null && (
        <div className="absolute top-0 h-[600px] border-r border-juniper" style={{ right: -dragged }} />
      )}
    </div>
  );
}
