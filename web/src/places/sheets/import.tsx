import { useNavigate } from "@tanstack/react-router";
import { useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { type Schemas, type Sheet, upload, words } from "../../api/client";
import { keys, refresh } from "../../api/keys";
import { useHanded } from "../../parts/dropfile";
import { LocaleSelect } from "../../parts/locales";
import { Scroll } from "../../parts/scroll";
import { RowsFile } from "../../parts/rowsfile";
import { useZone } from "../../parts/session";
import { count } from "../../parts/time";
import { keepImported } from "./imported";
import { FileColumns, FileNotes, openOrders, Part } from "./filecolumns";
import { type FilePart, useFile } from "./usefile";

// One page, before anything is written: what is in the file, and what each
// column is taken for.
export function ImportPlace(): ReactNode {
  const [key, setKey] = useState(-1);
  const [address, setAddress] = useState(-1);
  const [name, setName] = useState("");
  const [zone, setZone] = useState(useZone());
  const [locale, setLocale] = useState("en-GB");
  const [making, setMaking] = useState(false);
  const f = useFile(undefined, locale);
  const navigate = useNavigate();
  const client = useQueryClient();
  const { preview, guesses, choices } = f;
  const open = openOrders(guesses, choices, f.answered);

  const look = async (file: File, part?: FilePart, l?: string) => {
    const p = await f.look(file, part, l);
    if (!p) return;
    setKey(p.key);
    setAddress(p.address);
    setName((n) => n || p.name);
  };
  useHanded((file) => void look(file));
  const go = async (s: Sheet, job?: Schemas["Job"], done?: Schemas["ImportResult"]) => {
    if (done) keepImported(s.id, done);
    await refresh(client, [keys.sheets, keys.today, keys.templates, keys.calendars]);
    void navigate({
      to: "/sheets/$sheet",
      params: { sheet: s.id },
      search: job ? { job: job.id } : done ? { slip: "imported" } : {},
    });
  };
  const make = async (
    parts: Record<string, string | File>,
    columns: unknown[],
    k: number,
    a: number,
    called: string,
  ) => {
    setMaking(true);
    f.setError("");
    try {
      const spec = JSON.stringify({ name: called, zone, locale, key: k, address: a, columns });
      const made = await upload<{ sheet: Sheet; job?: Schemas["Job"]; import?: Schemas["ImportResult"] }>("/sheets", {
        spec,
        ...parts,
      });
      await go(made.sheet, made.job, made.import);
    } catch (e) {
      f.setError(words(e));
      setMaking(false);
    }
  };
  const bundle = async (file: File) => {
    setMaking(true);
    f.setError("");
    try {
      await go(await upload<Sheet>("/bundles", { switchOn: "false", file }));
    } catch (e) {
      f.setError(words(e));
      setMaking(false);
    }
  };
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <div className="px-5 pt-[18px] pb-3">
        <h1>
          {preview ? (
            <>
              <b>{f.file?.name}</b> holds {count(preview.rows, "row")} in {count(preview.columns.length, "column")},{" "}
              {preview.separator
                ? `${preview.encoding}, separated by ${preview.separator}`
                : `on the worksheet ${preview.worksheet}`}
              . Nothing has been written yet.
            </>
          ) : (
            <>
              <b>New sheet.</b> Choose a file whose first row names the columns: CSV or a workbook (XLSX), or paste a
              table.
            </>
          )}
        </h1>
      </div>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 px-5 pb-3">
        <RowsFile
          onFile={(file) => {
            setName("");
            void look(file);
          }}
        />
        {preview && f.file && (
          <>
            <Part preview={preview} part={f.part} onPart={(part) => f.file && void look(f.file, part)} />
            <label className="flex items-center gap-2">
              Name
              <input className="field w-52" value={name} onChange={(e) => setName(e.target.value)} />
            </label>
            <label className="flex items-center gap-2">
              Time zone
              <input className="field w-44" list="zones" value={zone} onChange={(e) => setZone(e.target.value)} />
            </label>
            <datalist id="zones">
              {Intl.supportedValuesOf("timeZone").map((z) => (
                <option key={z} value={z} />
              ))}
            </datalist>
            <span className="flex items-center gap-2">
              Written as in{" "}
              <LocaleSelect
                value={locale}
                onChange={(tag) => {
                  setLocale(tag);
                  if (f.file) void look(f.file, f.part, tag);
                }}
              />
            </span>
          </>
        )}
      </div>
      {!preview && f.file && f.error && (
        <div className="flex flex-wrap gap-4 px-5 pb-2">
          <Part part={f.part} onPart={(part) => f.file && void look(f.file, part)} />
        </div>
      )}
      <p role="alert" className="px-5 text-brick">
        {f.error}
      </p>
      {preview && <FileNotes preview={preview} />}
      {!preview && (
        <Beginning
          busy={making}
          onBundle={(file) => void bundle(file)}
          onEmpty={() => void make({}, fresh, -1, 1, "New sheet")}
        />
      )}
      {preview && (
        <>
          <Scroll label="Columns of the file" className="min-h-0 flex-1 border-t border-hair bg-sheet px-5 pt-2">
            <FileColumns
              preview={preview}
              guesses={guesses}
              choices={choices}
              open={open}
              onChange={f.put}
              onAnswer={f.answer}
              extraHeads={["Key", "Address"]}
              extra={(i, c) => (
                <>
                  <td>
                    <input
                      type="radio"
                      name="key"
                      className="accent-juniper"
                      aria-label={`${c.name} identifies the row`}
                      checked={key === i}
                      onChange={() => setKey(i)}
                    />
                  </td>
                  <td>
                    {c.type === "email" && (
                      <input
                        type="radio"
                        name="address"
                        className="accent-juniper"
                        aria-label={`${c.name} carries the address`}
                        checked={address === i}
                        onChange={() => setAddress(i)}
                      />
                    )}
                  </td>
                </>
              )}
            />
            <p className="py-3 text-ink-2">
              What does not fit its column is kept as it is and marked.{" "}
              {key < 0
                ? "No column identifies a row yet; without one a later file cannot be matched with these rows."
                : ""}
              {key >= 0 && (guesses[key]?.doubled ?? 0) > 0 && (
                <b className="font-semibold text-marigold">
                  {count(guesses[key]?.doubled ?? 0, "row")} {guesses[key]?.doubled === 1 ? "has" : "have"} a{" "}
                  {choices[key]?.name} that stood before. Each is kept as a row of its own, and gets its own emails.
                </b>
              )}
            </p>
          </Scroll>
          <div className="flex items-center gap-4 border-t border-hair px-5 py-3">
            <button
              type="button"
              className="act"
              disabled={making || f.busy || open.length > 0 || !name.trim()}
              onClick={() =>
                f.file &&
                void make(
                  { ...f.part, file: f.file },
                  choices.map((c) => ({
                    name: c.name || "unnamed",
                    type: c.type,
                    order: c.order,
                    format: c.format,
                    skip: c.skip,
                  })),
                  key,
                  address,
                  name,
                )
              }
            >
              Make a sheet of {count(preview.rows, "row")}
            </button>
            {open.length > 0 && (
              <span className="text-marigold">
                Say first in which order the dates of {open.map((i) => choices[i]?.name).join(" and ")} are written;
                the file leaves it open.
              </span>
            )}
            {!name.trim() && <span className="text-marigold">Give the sheet a name.</span>}
          </div>
        </>
      )}
    </div>
  );
}

// The columns of a sheet that begins empty.
const fresh = [
  { name: "Name", type: "text" },
  { name: "Email", type: "email" },
  { name: "Due", type: "date", order: "day-month-year" },
];

// Before a file is chosen: what will happen, and the other ways to begin.
function Beginning({ busy, onBundle, onEmpty }: { busy: boolean; onBundle: (f: File) => void; onEmpty: () => void }) {
  return (
    <div className="max-w-2xl px-5 pt-3 text-ink-2">
      <p className="mb-3">
        Before anything is written you see what each column is read as, how much of it fits, and the first cells that
        do not. What does not fit is kept as it is.
      </p>
      <p className="mb-3">
        <label className="link cursor-pointer">
          Import a bundle
          <input
            type="file"
            accept=".zip,application/zip"
            aria-label="Bundle"
            className="sr-only"
            disabled={busy}
            onChange={(e) => e.target.files?.[0] && onBundle(e.target.files[0])}
          />
        </label>
        , a sheet with its templates and rules that was exported from Nivot. Its rules come as drafts.
      </p>
      <p>
        <button type="button" className="link" disabled={busy} onClick={onEmpty}>
          Start with an empty sheet
        </button>{" "}
        and type the rows.
      </p>
    </div>
  );
}
