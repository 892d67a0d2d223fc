import { useEffect, useRef, useState } from "react";
import { api } from "../../api/client";
import { typeName } from "./cell";

// How formulas know a column: in small letters, with _ for what is no letter
// or digit. The server says where that is not so.
export const formulaName = (name: string) =>
  name
    .trim()
    .toLowerCase()
    .replace(/[^\p{L}\p{N}]+/gu, "_")
    .replace(/^_+|_+$/g, "");

type Offer = { text: string; note: string; call: boolean };

// A formula, with the names of columns and functions completed as one types.
export function FormulaField({
  value,
  onChange,
  names,
  error,
}: {
  value: string;
  onChange: (v: string) => void;
  names: { name: string; type: string }[];
  error?: string;
}) {
  const functions = api.useQuery("get", "/functions");
  const [at, setAt] = useState(0);
  const [word, setWord] = useState<{ from: number; text: string } | null>(null);
  const field = useRef<HTMLTextAreaElement>(null);
  const caret = useRef<number | null>(null);
  useEffect(() => {
    if (caret.current !== null) field.current?.setSelectionRange(caret.current, caret.current);
    caret.current = null;
  });
  const offers: Offer[] = word
    ? [
        ...names.map((c) => ({ text: formulaName(c.name), note: typeName(c.type), call: false })),
        ...(functions.data ?? []).map((f) => ({ text: f.name, note: f.what, call: true })),
      ]
        .filter((o) => o.text.startsWith(word.text.toLowerCase()) && o.text !== word.text)
        .slice(0, 8)
    : [];
  const look = (text: string, end: number) => {
    const m = /[\p{L}_][\p{L}\p{N}_]*$/u.exec(text.slice(0, end));
    setWord(m && m[0].length > 0 ? { from: end - m[0].length, text: m[0] } : null);
    setAt(0);
  };
  const take = (o: Offer) => {
    if (!word) return;
    const end = field.current?.selectionStart ?? value.length;
    const put = o.call ? `${o.text}(` : o.text;
    caret.current = word.from + put.length;
    onChange(value.slice(0, word.from) + put + value.slice(end));
    setWord(null);
    field.current?.focus();
  };
  const place = /at character (\d+)/.exec(error ?? "");
  const wrong = place ? Number(place[1]) - 1 : -1;
  return (
    <div>
      <div className="relative">
        <textarea
          ref={field}
          rows={2}
          spellCheck={false}
          className="field w-full font-mono text-xs!"
          aria-label="Formula"
          aria-invalid={error ? true : undefined}
          aria-describedby="formula-error"
          aria-autocomplete="list"
          aria-controls={offers.length > 0 ? "formula-offers" : undefined}
          value={value}
          onChange={(e) => {
            onChange(e.target.value);
            look(e.target.value, e.target.selectionStart);
          }}
          onBlur={() => window.setTimeout(() => setWord(null), 150)}
          onKeyDown={(e) => {
            if (offers.length === 0) return;
            if (e.key === "ArrowDown") setAt((at + 1) % offers.length);
            else if (e.key === "ArrowUp") setAt((at + offers.length - 1) % offers.length);
            else if (e.key === "Tab" || e.key === "Enter") take(offers[at] as Offer);
            else if (e.key === "Escape") {
              e.stopPropagation();
              setWord(null);
            } else return;
            e.preventDefault();
          }}
        />
        {offers.length > 0 && (
          <ul
            id="formula-offers"
            role="listbox"
            aria-label="Names"
            className="pop absolute top-full left-0 z-50 mt-1 w-full p-1"
          >
            {offers.map((o, i) => (
              <li
                key={o.text}
                role="option"
                aria-selected={i === at}
                className={`flex cursor-pointer gap-3 rounded-sm px-2 py-0.5 ${i === at ? "bg-wash" : ""}`}
                onMouseDown={(e) => {
                  e.preventDefault();
                  take(o);
                }}
              >
                <span className="flex-none font-mono text-xs">{o.call ? `${o.text}( )` : o.text}</span>
                <span className="truncate text-ink-2">{o.note}</span>
              </li>
            ))}
          </ul>
        )}
      </div>
      {error && (
        <p id="formula-error" role="alert" className="mt-1 text-brick">
          {wrong >= 0 && wrong <= value.length && (
            <code className="mr-2 font-mono text-xs">
              {value.slice(Math.max(0, wrong - 14), wrong)}
              <mark className="bg-brick px-px text-paper">{value[wrong] ?? "…"}</mark>
              {value.slice(wrong + 1, wrong + 14)}
            </code>
          )}
          {error}
        </p>
      )}
    </div>
  );
}

// What formulas may call, and how they are written.
export function FunctionList() {
  const functions = api.useQuery("get", "/functions");
  return (
    <details className="mt-3">
      <summary className="link cursor-pointer">What a formula may say</summary>
      <p className="mt-2 text-ink-2">
        Columns by their names, with _ for a space: <code className="font-mono text-xs">days_until(return_due)</code>.
        Numbers, “texts” in double quotes, + - * /, &amp; to join texts, and, or, not, = != &lt; &lt;= &gt; &gt;=. A
        formula that rests on an empty cell is empty.
      </p>
      <table className="tbl mt-2">
        <tbody>
          {functions.data?.map((f) => (
            <tr key={f.name}>
              <td className="font-mono text-xs whitespace-nowrap">{f.usage}</td>
              <td>{f.what}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  );
}
