// All cells of one row, one below the other, and each changed where it stands.
import { useRef, useState } from "react";
import { type Column, type Row, type Schemas, type Sheet } from "../../api/client";
import { PickFiles } from "../../parts/pickfiles";
import { useNow } from "../../parts/session";
import type { Edits } from "./edits";
import { Editor } from "./editor";
import { usePutFiles, withNames } from "./files";
import { inputOf } from "./rows";

type Props = {
  sheet: Sheet;
  row: Row;
  edits: Edits;
  mayEdit: boolean;
  mayLocked: boolean; // locked columns too
  fix?: string; // the column whose cell is open at first
};

// More columns than these are found by their names.
const many = 24;

export function Cells({ sheet, row, edits, mayEdit, mayLocked, fix }: Props) {
  const may = (c: Column) => mayEdit && c.type !== "formula" && (!c.locked || mayLocked);
  const [open, setOpen] = useState(() => sheet.columns.find((c) => c.id === fix && may(c))?.id);
  const [find, setFind] = useState("");
  const [changed, setChanged] = useState(false);
  const box = useRef<HTMLDivElement>(null);
  const today = useNow(60000);
  const put = usePutFiles(sheet);
  const wanted = find.trim().toLowerCase();
  const shown = sheet.columns.filter((c) => c.name.toLowerCase().includes(wanted));
  const faulty = new Set((row.faults ?? []).map((f) => f.column));
  const waiting = sheet.columns.some((c) => edits.pending.has(`${row.id}|${c.id}`));
  const write = (c: Column, text: string) => {
    const before = edits.latest()(row, c.id, sheet.columns.indexOf(c));
    if (text === before) return;
    edits.change("edit", [{ op: "edit", row: row.id, cells: { [c.id]: text }, expected: { [c.id]: before } }]);
    setChanged(true);
  };
  // Enter goes to the next cell, Tab into it.
  const leave = (c: Column, text: string | null, down: number, along: number) => {
    setOpen(undefined);
    if (text !== null) write(c, text);
    const list = shown.filter(may);
    const next = list[list.indexOf(c) + Math.sign(down || along)];
    if (along && next) return setOpen(next.id);
    requestAnimationFrame(() =>
      box.current?.querySelector<HTMLElement>(`[data-cell="${(down && next ? next : c).id}"]`)?.focus(),
    );
  };
  return (
    <div ref={box} role="group" aria-label="Cells">
      {sheet.columns.length > many && (
        <input
          className="field mb-1 w-full"
          aria-label="Find a column"
          placeholder="find a column"
          value={find}
          onChange={(e) => setFind(e.target.value)}
        />
      )}
      {shown.map((c) => {
        const i = sheet.columns.indexOf(c);
        return (
          <div key={c.id} className="flex items-start gap-3 border-b border-hair-2">
            <span className="w-36 flex-none py-1 text-ink-2 [overflow-wrap:anywhere]">{c.name}</span>
            <div className="relative min-h-[30px] min-w-0 flex-1">
              {open === c.id ? (
                <Editor
                  text={edits.pending.get(`${row.id}|${c.id}`) ?? inputOf(row, i)}
                  column={c}
                  sheet={sheet}
                  today={today}
                  end={(text, down = 0, along = 0) => leave(c, text, down, along)}
                />
              ) : (
                <Shown
                  column={c}
                  cell={row.cells[i]}
                  pending={edits.pending.get(`${row.id}|${c.id}`)}
                  needed={faulty.has(c.id)}
                  onOpen={may(c) ? () => setOpen(c.id) : undefined}
                />
              )}
            </div>
            {c.type === "file" && may(c) && (
              <span className="flex-none py-1">
                <PickFiles
                  label="Add a file"
                  onFiles={(files) =>
                    void put(files).then(
                      (names) => names.length > 0 && write(c, withNames(edits.latest()(row, c.id, i), names)),
                    )
                  }
                />
              </span>
            )}
          </div>
        );
      })}
      {(waiting || changed) && (
        <p role="status" className="pt-1.5 text-ink-2">
          {waiting
            ? edits.away
              ? "Kept in this browser, and saved once Nivot can be reached."
              : "Saving …"
            : "Saved."}
          {!waiting && (
            <button
              type="button"
              className="link ml-3"
              onClick={() => {
                edits.undo();
                setChanged(false);
              }}
            >
              Undo
            </button>
          )}
        </p>
      )}
    </div>
  );
}

type ShownProps = { column: Column; cell?: Schemas["Cell"]; pending?: string; needed: boolean; onOpen?: () => void };

// A cell as it is; pressed, it is changed.
function Shown({ column: c, cell, pending, needed, onOpen }: ShownProps) {
  const text = pending ?? cell?.text ?? "";
  const bad = pending === undefined && cell?.bad;
  const look = `block w-full px-2.5 py-1 text-left [overflow-wrap:anywhere] whitespace-pre-line`;
  const words = (
    <>
      {pending !== undefined ? (
        <span className="text-marigold italic">{text || "empty"}</span>
      ) : bad ? (
        <span className="bad">{text}</span>
      ) : text ? (
        text
      ) : needed ? (
        <span className="bad">missing</span>
      ) : (
        <span className="text-ink-2">{onOpen ? "·" : ""}</span>
      )}
      {bad && <span className="block text-brick">{cell?.why ?? "It cannot be read as this column’s type."}</span>}
    </>
  );
  if (!onOpen)
    return (
      <div
        className={`${look} ${c.type === "formula" ? "text-ink-2" : ""}`}
        title={c.locked ? "Locked: a coordinator changes it" : undefined}
      >
        {words}
      </div>
    );
  return (
    <button
      type="button"
      data-cell={c.id}
      className={`${look} min-h-[30px] rounded-sm hover:bg-wash`}
      aria-label={`${c.name}: ${text || (needed ? "missing" : "empty")}${bad ? `, ${cell?.why ?? "cannot be read"}` : ""}. Change it`}
      onClick={onOpen}
    >
      {words}
    </button>
  );
}
