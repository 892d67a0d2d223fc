// In which languages a letter is written, and which of them is being written.
import { useState } from "react";
import type { Column, Schemas, Sheet } from "../../api/client";
import { LocaleSelect } from "../../parts/locales";
import { Blank } from "../../parts/picker";
import { count } from "../../parts/time";
import { valueType } from "../sheets/cell";

type Body = Schemas["TemplateBody"];
type Props = {
  sheet: Sheet;
  template: Body;
  older: string[]; // the languages whose text is older than the first one's
  now: number; // which is written: 0 is the first
  rows?: number[]; // how many rows get each text
  onOnly: (n: number) => void; // leaf through the rows of one
  may: boolean;
  onPick: (n: number) => void;
  onChange: (t: Partial<Body>) => void;
};

const names = new Intl.DisplayNames(["en-GB"], { type: "language" });
/** A language in words: "de" is German. */
export function languageName(tag: string): string {
  try {
    return names.of(tag) ?? tag;
  } catch {
    return tag;
  }
}

export function Languages({ sheet, template: t, older, now, rows, may, onPick, onOnly, onChange }: Props) {
  const variants = t.variants ?? [];
  const first = t.firstLanguage ?? sheet.locale;
  if (!may && variants.length === 0) return null;
  const tab = (n: number, tag: string) => (
    <button
      key={tag + String(n)}
      type="button"
      aria-pressed={now === n}
      className={now === n ? "border-b-[1.5px] border-ink font-semibold text-ink" : "link"}
      onClick={() => onPick(n)}
    >
      {languageName(tag)}
      {older.includes(tag) && n > 0 && <small className="ml-1 font-normal text-marigold">older</small>}
    </button>
  );
  const shown = variants[now - 1];
  const column = sheet.columns.find((c) => c.id === t.language);
  return (
    <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 pb-2 text-ink-2" aria-label="Languages" role="group">
      {variants.length > 0 && (
        <>
          {tab(0, first)}
          {variants.map((v, i) => tab(i + 1, v.language))}
          {rows?.[now] !== undefined && (
            <button type="button" className="link" title="Leaf through these rows" onClick={() => onOnly(now)}>
              {count(rows[now], "row")}
            </button>
          )}
          <span>
            chosen by{" "}
            {may ? (
              <select
                className="field py-0!"
                aria-label="The column that chooses the language"
                aria-invalid={!column}
                value={t.language ?? ""}
                onChange={(e) => onChange({ language: e.target.value || undefined })}
              >
                {!column && <option value="">no column yet</option>}
                {sheet.columns.filter(speaks).map((c) => (
                  <option key={c.id} value={c.id}>
                    {c.name}
                  </option>
                ))}
              </select>
            ) : (
              <b className="font-[560] text-ink">{column?.name ?? "no column"}</b>
            )}
          </span>
        </>
      )}
      {may && <AddLanguage sheet={sheet} template={t} first={first} onPick={onPick} onChange={onChange} />}
      {may && shown && older.includes(shown.language) && (
        <button
          type="button"
          className="link"
          onClick={() =>
            onChange({ variants: variants.map((v) => (v === shown ? { ...v, of: (t.written ?? 0) + 1 } : v)) })
          }
        >
          It says the same as the first
        </button>
      )}
      {may && shown && (
        <button
          type="button"
          className="link text-brick!"
          onClick={() => {
            onPick(0);
            onChange({ variants: variants.filter((v) => v !== shown) });
          }}
        >
          Remove {languageName(shown.language)}
        </button>
      )}
    </div>
  );
}

const speaks = (c: Column) => ["text", "choice"].includes(valueType(c));

type AddProps = {
  sheet: Sheet;
  template: Body;
  first: string;
  onPick: (n: number) => void;
  onChange: (t: Partial<Body>) => void;
};
function AddLanguage({ sheet, template: t, first, onPick, onChange }: AddProps) {
  const [open, setOpen] = useState(false);
  const [tag, setTag] = useState("de");
  const variants = t.variants ?? [];
  const columns = sheet.columns.filter(speaks);
  const [column, setColumn] = useState(t.language ?? sheet.languageColumn ?? "");
  const taken = [first, ...variants.map((v) => v.language)].some((x) => x.toLowerCase() === tag.toLowerCase());
  return (
    <Blank
      title="Another language of this template"
      words={variants.length === 0 ? "write it in another language …" : "another language …"}
      open={open}
      onOpenChange={setOpen}
    >
      <form
        className="flex flex-col gap-2.5"
        onSubmit={(e) => {
          e.preventDefault();
          e.stopPropagation();
          if (taken || !column) return;
          setOpen(false);
          onChange({
            language: column,
            variants: [
              ...variants,
              { language: tag, subject: t.subject, body: t.body, ...(t.preheader ? { preheader: t.preheader } : {}) },
            ],
          });
          onPick(variants.length + 1);
        }}
      >
        <span className="flex items-center justify-between gap-3">
          Language
          <LocaleSelect value={tag} onChange={setTag} />
        </span>
        <label className="flex items-center justify-between gap-3">
          Each row’s language is in
          <select className="field" value={column} onChange={(e) => setColumn(e.target.value)}>
            <option value="">choose a column</option>
            {columns.map((c) => (
              <option key={c.id} value={c.id}>
                {c.name}
              </option>
            ))}
          </select>
        </label>
        <p className="max-w-72 text-ink-2">
          It begins with the words of {languageName(first)}, to be written over. Rows in a language that the template
          does not have get {languageName(first)}.
        </p>
        {taken && <p className="bad">The template is written in {languageName(tag)} already.</p>}
        <button type="submit" className="link self-start" disabled={taken || !column}>
          Write it in {languageName(tag)}
        </button>
      </form>
    </Blank>
  );
}
