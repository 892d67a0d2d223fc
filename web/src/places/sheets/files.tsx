// The files of a sheet, which the cells of its columns of files name: the shelf as a whole, and
// those of one cell.
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { base } from "../../api/base";
import { api, http, type Schemas, type Sheet, take, upload, words } from "../../api/client";
import { keys, refresh } from "../../api/keys";
import { Await } from "../../parts/await";
import { PickFiles } from "../../parts/pickfiles";
import { size } from "../../parts/size";
import { Slip } from "../../parts/slip";
import { count } from "../../parts/time";
import type { Edits } from "./edits";

type SheetFile = Schemas["SheetFile"];

export const hasFiles = (s: Sheet) => s.columns.some((c) => c.type === "file");
const namesIn = (text: string) =>
  text
    .split(/[;\n]/)
    .map((n) => n.trim())
    .filter(Boolean);
const folded = (name: string) => name.toLowerCase();

export function useShelf(sheet: Sheet) {
  return api.useQuery(
    "get",
    "/sheets/{sheet}/files",
    { params: { path: { sheet: sheet.id } } },
    { enabled: hasFiles(sheet) },
  );
}

/** Puts files among those of a sheet, one after the other, and gives the names that they have there. */
export function usePutFiles(sheet: Sheet) {
  const client = useQueryClient();
  return async (files: File[], replace = false): Promise<string[]> => {
    const names: string[] = [];
    for (const f of files) {
      const wait = toast.loading(`Uploading ${f.name} …`);
      try {
        const kept = await upload<SheetFile>(`/sheets/${sheet.id}/files`, {
          file: f,
          ...(replace ? { replace: "true" } : {}),
        });
        names.push(kept.name);
        toast.dismiss(wait);
      } catch (e) {
        toast.error(words(e), { id: wait, duration: 12000 });
      }
    }
    await refresh(client, [keys.sheetFiles, keys.rows(sheet.id), keys.checks(sheet.id), keys.preview(sheet.id)]);
    return names;
  };
}

/** Adds names to those in a cell. */
export function withNames(before: string, names: string[]): string {
  const list = namesIn(before);
  for (const n of names) if (!list.some((x) => folded(x) === folded(n))) list.push(n);
  return list.join("; ");
}

// Files that are dropped anywhere on what is inside.
function Dropped({ onFiles, children }: { onFiles?: (f: File[]) => void; children: React.ReactNode }) {
  const [over, setOver] = useState(false);
  const files = (e: React.DragEvent) => !!onFiles && [...e.dataTransfer.types].includes("Files");
  return (
    <div
      className={over ? "bg-wash" : ""}
      onDragOver={(e) => {
        if (!files(e)) return;
        e.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(e) => {
        setOver(false);
        if (!files(e)) return;
        e.preventDefault();
        onFiles?.([...e.dataTransfer.files]);
      }}
    >
      {children}
    </div>
  );
}

function Download({ file }: { file: SheetFile }) {
  return (
    <a
      className="link min-w-0 flex-1 truncate"
      href={`${base}/api/files/${file.file}`}
      download={file.name}
      title={`Download ${file.name}`}
    >
      {file.name}
    </a>
  );
}

// All files of a sheet: more of them, how many rows name each, and what rows name in vain.
export function FilesSlip({
  sheet,
  mayEdit,
  onRow,
  onClose,
}: {
  sheet: Sheet;
  mayEdit: boolean;
  onRow: (row: string) => void;
  onClose: () => void;
}) {
  const q = useShelf(sheet);
  const client = useQueryClient();
  const put = usePutFiles(sheet);
  const [replace, setReplace] = useState(true);
  const remove = async (f: SheetFile) => {
    try {
      await take(
        http.DELETE("/sheets/{sheet}/files", { params: { path: { sheet: sheet.id }, query: { name: f.name } } }),
      );
      await refresh(client, [keys.sheetFiles, keys.rows(sheet.id)]);
      toast(
        f.rows > 0
          ? `Removed ${f.name}. ${count(f.rows, "row")} still name${f.rows === 1 ? "s" : ""} it.`
          : `Removed ${f.name}.`,
      );
    } catch (e) {
      toast.error(words(e));
    }
  };
  if (!q.data)
    return (
      <Slip title="Files of the sheet" onClose={onClose}>
        <Await query={q} />
      </Slip>
    );
  const { files, absent } = q.data;
  return (
    <Slip title="Files of the sheet" onClose={onClose} wide head={<b className="text-ink">Files of {sheet.name}</b>}>
      <Dropped onFiles={mayEdit ? (f) => void put(f, replace) : undefined}>
        <p className="mt-3 text-ink-2">
          Rows name them in a column of type file; a template attaches those of each row.{" "}
          {mayEdit && "Drop files here, or "}
          {mayEdit && <PickFiles label="choose them" onFiles={(f) => void put(f, replace)} />}
          {mayEdit && ". Up to 10 MB each."}
        </p>
        {mayEdit && (
          <label className="mt-2 flex items-baseline gap-2">
            <input
              type="checkbox"
              className="accent-juniper"
              checked={replace}
              onChange={(e) => setReplace(e.target.checked)}
            />
            one of the same name is replaced
          </label>
        )}
        {absent.length > 0 && (
          <section className="mt-4" aria-label="Named, and not here">
            <h2 className="text-xs text-brick">
              {count(absent.length, "name")} in rows that no file has; the emails of these rows are incomplete
            </h2>
            {absent.slice(0, 60).map((a) => (
              <div key={a.name} className="flex items-baseline gap-3 border-b border-hair-2 py-1">
                <span className="bad min-w-0 truncate">{a.name}</span>
                <span className="ml-auto flex-none text-ink-2">{count(a.rows, "row")}</span>
                <button type="button" className="link flex-none" onClick={() => onRow(a.first)}>
                  {a.rows === 1 ? "see it" : "see the first"}
                </button>
              </div>
            ))}
            {absent.length > 60 && (
              <p className="mt-1 text-ink-2">… and {(absent.length - 60).toLocaleString("en-GB")} more.</p>
            )}
          </section>
        )}
        <section className="mt-4" aria-label="Files">
          <h2 className="text-xs text-ink-2">{count(files.length, "file")}</h2>
          {files.map((f) => (
            <div key={f.name} className="flex items-baseline gap-3 border-b border-hair-2 py-1">
              <Download file={f} />
              <span className="flex-none text-ink-2">{size(f.size)}</span>
              <span className="w-20 flex-none text-right text-ink-2">
                {f.rows === 0 ? "no row" : count(f.rows, "row")}
              </span>
              {mayEdit && (
                <button
                  type="button"
                  className="link flex-none text-brick!"
                  aria-label={`Remove ${f.name}`}
                  onClick={() => void remove(f)}
                >
                  Remove
                </button>
              )}
            </div>
          ))}
          {files.length === 0 && <p className="mt-1 text-ink-2">None yet.</p>}
        </section>
      </Dropped>
    </Slip>
  );
}

// The files that one cell names.
export function CellFiles({
  sheet,
  row,
  column,
  text,
  mayEdit,
  edits,
}: {
  sheet: Sheet;
  row: string;
  column: string;
  text: string;
  mayEdit: boolean;
  edits: Edits;
}) {
  const shelf = useShelf(sheet);
  const put = usePutFiles(sheet);
  const write = (to: string) =>
    edits.change("edit", [{ op: "edit", row, cells: { [column]: to }, expected: { [column]: text } }]);
  const add = (files: File[]) => void put(files).then((names) => names.length > 0 && write(withNames(text, names)));
  return (
    <Dropped onFiles={mayEdit ? add : undefined}>
      <div className="mt-3 flex flex-col">
        {namesIn(text).map((name) => {
          const file = shelf.data?.files.find((f) => folded(f.name) === folded(name));
          return (
            <div key={name} className="flex items-baseline gap-3 border-b border-hair-2 py-1">
              {file ? <Download file={file} /> : <span className="bad min-w-0 flex-1 truncate">{name}</span>}
              <span className="flex-none text-ink-2">
                {file ? size(file.size) : "not among the files of the sheet"}
              </span>
              {mayEdit && (
                <button
                  type="button"
                  className="link flex-none text-brick!"
                  aria-label={`Remove ${name} from this row`}
                  onClick={() =>
                    write(
                      namesIn(text)
                        .filter((n) => n !== name)
                        .join("; "),
                    )
                  }
                >
                  Remove
                </button>
              )}
            </div>
          );
        })}
        {mayEdit && (
          <p className="mt-2 text-ink-2">
            Drop files here, or <PickFiles label="choose them" onFiles={add} />.
          </p>
        )}
      </div>
    </Dropped>
  );
}
