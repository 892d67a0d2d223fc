import { useNavigate } from "@tanstack/react-router";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { type Schemas, type Sheet, upload, words } from "../../api/client";
import { useZone } from "../../parts/session";
import { count } from "../../parts/time";
import { CsvFile } from "../../parts/csvfile";

type Guess = Schemas["GuessedColumn"];
type Preview = Schemas["ImportPreview"];
type Choice = { name: string; type: Guess["type"]; order?: Guess["order"]; skip: boolean };
const types = ["text", "number", "date", "moment", "yes/no", "choice", "email"] as const;
const places: Record<string, string> = {
  "en-GB": "Britain",
  "en-US": "the United States",
  de: "Germany",
  fr: "France",
  es: "Spain",
  nl: "the Netherlands",
  ja: "Japan",
};
const orders = ["day-month-year", "month-day-year", "year-month-day"] as const;

// One page, before anything is written: what is in the file, and what each
// column is taken for.
export function ImportPlace() {
  const [file, setFile] = useState<File>();
  const [preview, setPreview] = useState<Preview>();
  const [guesses, setGuesses] = useState<Guess[]>([]);
  const [choices, setChoices] = useState<Choice[]>([]);
  const [answered, setAnswered] = useState<Record<number, boolean>>({});
  const [key, setKey] = useState(-1);
  const [address, setAddress] = useState(-1);
  const [name, setName] = useState("");
  const [zone, setZone] = useState(useZone());
  const [locale, setLocale] = useState("en-GB");
  const [error, setError] = useState("");
  const [busy, setBusy] = useState(false);
  const navigate = useNavigate();
  const client = useQueryClient();

  const look = async (f: File, l: string) => {
    setError("");
    try {
      const p = await upload<Preview>("/imports", { locale: l, file: f });
      setPreview(p);
      setGuesses(p.columns);
      setChoices(p.columns.map((c) => ({ name: c.name, type: c.type, order: c.order, skip: false })));
      setAnswered({});
      setKey(p.key);
      setAddress(p.address);
      setName((n) => n || p.name);
    } catch (e) {
      setPreview(undefined);
      setError(words(e));
    }
  };
  const spec = () =>
    JSON.stringify({
      name: name || "unnamed",
      zone,
      locale,
      key,
      address,
      columns: choices.map((c) => ({ ...c, name: c.name || "unnamed" })),
    });
  const shape = choices.map((c) => c.type + (c.order ?? "")).join();
  useEffect(() => {
    if (!file || choices.length === 0) return;
    const t = window.setTimeout(async () => {
      try {
        const measured = await upload<Guess[]>("/imports/measure", { spec: spec(), file });
        setGuesses((old) => measured.map((m, i) => ({ ...m, askDay: old[i]?.askDay ?? false })));
      } catch (e) {
        setError(words(e));
      }
    }, 200);
    return () => window.clearTimeout(t);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- measured anew when a type or order changes, not at each letter of a name
  }, [shape, file]);

  const put = (i: number, c: Partial<Choice>) => setChoices((list) => list.map((x, k) => (k === i ? { ...x, ...c } : x)));
  const open = guesses
    .map((g, i) =>
      g.askDay && !answered[i] && !choices[i]?.skip && (choices[i]?.type === "date" || choices[i]?.type === "moment") ? i : -1,
    )
    .filter((i) => i >= 0);
  const make = async () => {
    if (!file) return;
    setBusy(true);
    setError("");
    try {
      const s = await upload<Sheet>("/sheets", { spec: spec(), file });
      await client.invalidateQueries();
      void navigate({ to: "/sheets/$sheet", params: { sheet: s.id } });
    } catch (e) {
      setError(words(e));
      setBusy(false);
    }
  };
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <div className="px-5 pt-[18px] pb-3">
        <h1>
          {preview ? (
            <>
              <b>{file?.name}</b> holds {count(preview.rows, "row")} in {count(preview.columns.length, "column")}, {preview.encoding},
              parted by {preview.separator}. Nothing has been written yet.
            </>
          ) : (
            <>
              <b>Bring a sheet in.</b> Choose a CSV file whose first line names the columns.
            </>
          )}
        </h1>
      </div>
      <div className="flex flex-wrap items-center gap-4 px-5 pb-3">
        <CsvFile
          onFile={(f) => {
            setFile(f);
            setName("");
            void look(f, locale);
          }}
        />
        {preview && (
          <>
            <label className="flex items-center gap-2">
              Name
              <input className="field w-52" value={name} onChange={(e) => setName(e.target.value)} />
            </label>
            <label className="flex items-center gap-2">
              Zone
              <input className="field w-44" list="zones" value={zone} onChange={(e) => setZone(e.target.value)} />
            </label>
            <datalist id="zones">
              {Intl.supportedValuesOf("timeZone").map((z) => (
                <option key={z} value={z} />
              ))}
            </datalist>
            <label className="flex items-center gap-2">
              Written as in
              <select
                className="field"
                value={locale}
                onChange={(e) => {
                  setLocale(e.target.value);
                  if (file) void look(file, e.target.value);
                }}
              >
                {Object.entries(places).map(([tag, name]) => (
                  <option key={tag} value={tag}>
                    {name}
                  </option>
                ))}
              </select>
            </label>
          </>
        )}
      </div>
      <p role="alert" className="px-5 text-brick">
        {error}
      </p>
      {preview && (
        <>
          <div
            className="min-h-0 flex-1 overflow-auto border-t border-hair bg-sheet px-5 pt-2"
            tabIndex={0}
            role="region"
            aria-label="Columns of the file"
          >
            <table className="tbl [&_td]:align-middle!">
              <thead>
                <tr>
                  <th>Column</th>
                  <th>Taken for</th>
                  <th>Fits</th>
                  <th>First that do not</th>
                  <th>Key</th>
                  <th>Address</th>
                  <th>Leave out</th>
                  <th>First rows</th>
                </tr>
              </thead>
              <tbody>
                {choices.map((c, i) => {
                  const g = guesses[i];
                  if (!g) return null;
                  const dated = c.type === "date" || c.type === "moment";
                  return (
                    <tr key={i} className={c.skip ? "opacity-50" : ""}>
                      <td>
                        <input
                          className="field w-40"
                          aria-label={`Name of column ${i + 1}`}
                          value={c.name}
                          onChange={(e) => put(i, { name: e.target.value })}
                        />
                      </td>
                      <td className="whitespace-nowrap">
                        <select
                          className="field"
                          aria-label={`Type of ${c.name}`}
                          value={c.type}
                          onChange={(e) =>
                            put(i, {
                              type: e.target.value as Choice["type"],
                              order: ["date", "moment"].includes(e.target.value) ? (c.order ?? "day-month-year") : undefined,
                            })
                          }
                        >
                          {types.map((t) => (
                            <option key={t}>{t}</option>
                          ))}
                        </select>
                        {dated && (
                          <select
                            className={`field ml-1 ${open.includes(i) ? "border-marigold-fill!" : ""}`}
                            aria-label={`Order of the dates in ${c.name}`}
                            value={open.includes(i) ? "" : c.order}
                            onChange={(e) => {
                              put(i, { order: e.target.value as Choice["order"] });
                              setAnswered({ ...answered, [i]: true });
                            }}
                          >
                            {open.includes(i) && <option value="">which order?</option>}
                            {orders.map((o) => (
                              <option key={o} value={o}>
                                {o.replaceAll("-", ", ")}
                              </option>
                            ))}
                          </select>
                        )}
                        {c.type === "choice" && <div className="max-w-56 truncate pt-0.5 text-ink-2">{g.options.join(", ")}</div>}
                      </td>
                      <td className="text-right whitespace-nowrap">
                        {g.filled === 0 ? (
                          "empty"
                        ) : g.fit === g.filled ? (
                          "all"
                        ) : (
                          <span className="text-brick">{Math.floor((100 * g.fit) / g.filled)} %</span>
                        )}{" "}
                        <span className="text-ink-2">of {g.filled}</span>
                      </td>
                      <td>
                        {g.misfits.map((m) => (
                          <div key={m.line} title={m.why}>
                            line {m.line}: <span className="bad">{m.text}</span>
                          </div>
                        ))}
                      </td>
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
                      <td>
                        <input
                          type="checkbox"
                          className="accent-juniper"
                          aria-label={`Leave ${c.name} out`}
                          checked={c.skip}
                          onChange={(e) => put(i, { skip: e.target.checked })}
                        />
                      </td>
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
            <p className="py-3 text-ink-2">
              What does not fit its column is kept to the letter and marked.{" "}
              {key < 0 ? "No column identifies a row yet; without one a later file cannot meet these rows." : ""}
            </p>
          </div>
          <div className="flex items-center gap-4 border-t border-hair px-5 py-3">
            <button type="button" className="act" disabled={busy || open.length > 0 || !name.trim()} onClick={make}>
              Make a sheet of {count(preview.rows, "row")}
            </button>
            {open.length > 0 && (
              <span className="text-marigold">
                Say first in which order the dates of {open.map((i) => choices[i]?.name).join(" and ")} are written; the file leaves it
                open.
              </span>
            )}
            {!name.trim() && <span className="text-marigold">Give the sheet a name.</span>}
          </div>
        </>
      )}
    </div>
  );
}
