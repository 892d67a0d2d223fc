import { mergeAttributes, Node } from "@tiptap/core";
import { NodeViewWrapper, type ReactNodeViewProps, ReactNodeViewRenderer } from "@tiptap/react";
import { Popover } from "radix-ui";
import { createContext, useContext, useState } from "react";
import type { Column, Schemas } from "../../api/client";
import { valueType } from "../sheets/cell";

export type FieldAttrs = {
  column?: string;
  of?: string;
  name?: boolean;
  style?: string;
  part?: string;
  case?: string;
  fromNow?: boolean;
  decimals?: number;
  thousands?: boolean;
  currency?: string;
  fallback?: string;
  omit?: boolean;
};

/** What a field may say that is in no column. */
export const ownFields = [
  { of: "key", name: "Row key", note: "of the row" },
  { of: "today", name: "Today", note: "the day it is sent" },
  { of: "sender", name: "Sender", note: "who it is from" },
  { of: "opt-out", name: "Unsubscribe link", note: "stops these emails" },
] as const;

type Shown = {
  columns: Column[];
  values: Record<string, string>; // of the previewed row, by what the fields say
  parts: Record<string, { words: string; shown: boolean }>; // by their conditions
  pieces: Schemas["Piece"][];
  language: string; // of the text that is written
  names: boolean;
  ready: boolean;
};

// What the letter shows of the row that is looked at: the fields' values, or their names instead.
export const Fields = createContext<Shown>({
  columns: [],
  values: {},
  parts: {},
  pieces: [],
  language: "",
  names: false,
  ready: false,
});

/** Something by what it says: its JSON with members in the order of their names, without
 * those that say nothing. The server names fields and conditions so. */
export function keyOf(x: unknown): string {
  if (Array.isArray(x)) return `[${x.map(keyOf).join(",")}]`;
  if (typeof x !== "object" || x === null) return JSON.stringify(x);
  const members = Object.entries(x)
    .filter(([, v]) => v !== undefined && v !== null)
    .sort(([a], [b]) => (a < b ? -1 : 1));
  return `{${members.map(([k, v]) => `${JSON.stringify(k)}:${keyOf(v)}`).join(",")}}`;
}

// A field without what is so anyway: no empty text, nothing that is not so.
export function fieldKey(a: FieldAttrs): string {
  const said = Object.entries(a).filter(
    ([k, v]) =>
      k === "thousands" || k === "currency" || k === "fallback" || k === "decimals" || (v !== false && v !== ""),
  );
  return keyOf(Object.fromEntries(said));
}

/** What a field is called. */
export function fieldName(a: FieldAttrs, columns: Column[]): string {
  if (a.of) return ownFields.find((o) => o.of === a.of)?.name ?? a.of;
  if (a.column?.startsWith("?")) return `${a.column.slice(1)}, which is not here`;
  return columns.find((c) => c.id === a.column)?.name ?? "a column that is gone";
}

// A field is one inline atom, bound to a column's id.
export const FieldNode = Node.create({
  name: "field",
  group: "inline",
  inline: true,
  atom: true,
  addAttributes() {
    const said = [
      "column",
      "of",
      "name",
      "style",
      "part",
      "case",
      "fromNow",
      "decimals",
      "thousands",
      "currency",
      "fallback",
      "omit",
    ];
    return Object.fromEntries(said.map((a) => [a, { default: null, rendered: false }]));
  },
  parseHTML: () => [
    {
      tag: "span[data-field]",
      getAttrs: (el) => {
        try {
          return JSON.parse(el.dataset.field ?? "") as Record<string, unknown>;
        } catch {
          return false;
        }
      },
    },
  ],
  renderHTML({ node, HTMLAttributes }) {
    return ["span", mergeAttributes(HTMLAttributes, { "data-field": JSON.stringify(node.attrs) })];
  },
  addNodeView: () => ReactNodeViewRenderer(Chip, { as: "span" }),
});

function Chip({ node, updateAttributes, deleteNode, editor }: ReactNodeViewProps) {
  const { columns, values, names, ready } = useContext(Fields);
  const [open, setOpen] = useState(false);
  const a = said(node.attrs);
  const column = columns.find((c) => c.id === a.column);
  const name = fieldName(a, columns);
  const value = values[fieldKey(a)];
  const gone = !a.of && !column;
  const missing = gone || (ready && value === undefined && !a.omit);
  const text = names || value === undefined ? name : value || "\u00a0";
  const why = gone
    ? ""
    : missing
      ? ": no value in this row, and no fallback"
      : a.omit && ready && value === undefined
        ? ": empty in this row; its sentence is left out"
        : "";
  return (
    <NodeViewWrapper as="span" className="inline">
      <Popover.Root open={open} onOpenChange={setOpen}>
        <Popover.Trigger asChild disabled={!editor.isEditable}>
          <span
            className="chip"
            role="button"
            tabIndex={-1}
            data-missing={missing}
            data-left={a.omit && ready && value === undefined ? true : undefined}
            contentEditable={false}
            title={`${name}${why}`}
          >
            {text}
          </span>
        </Popover.Trigger>
        <Popover.Portal>
          <Popover.Content
            className="pop w-72 p-3.5"
            aria-label={name}
            sideOffset={6}
            collisionPadding={12}
            onCloseAutoFocus={(e) => {
              e.preventDefault();
              editor.commands.focus();
            }}
          >
            <h2 className="mb-2 text-xs font-[650] text-ink-2">
              {gone && !a.column?.startsWith("?") ? "This column is gone" : name}
            </h2>
            {gone && (
              <label className="flex items-center justify-between gap-3">
                Use instead
                <select className="field" value="" onChange={(e) => updateAttributes({ column: e.target.value })}>
                  <option value="">a column …</option>
                  {columns.map((c) => (
                    <option key={c.id} value={c.id}>
                      {c.name}
                    </option>
                  ))}
                </select>
              </label>
            )}
            {!gone && <FieldOptions a={a} column={column} put={(x) => updateAttributes(x)} />}
            <button
              type="button"
              className="link mt-2 text-brick!"
              onClick={() => {
                setOpen(false);
                deleteNode();
              }}
            >
              Remove the field
            </button>
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
    </NodeViewWrapper>
  );
}

// What a node says: its attributes without those that are none.
const said = (attrs: Record<string, unknown>): FieldAttrs =>
  Object.fromEntries(Object.entries(attrs).filter(([, v]) => v !== null && v !== undefined));

const styles = [
  ["short", "29/03/2027"],
  ["medium", "29 Mar 2027"],
  ["long", "29 March 2027"],
  ["weekday", "Monday 29 March"],
  ["iso", "2027-03-29"],
  ["days", "14 days (from the day it is sent)"],
];
const row = "flex items-center justify-between gap-3";
type OptionProps = {
  column?: Column;
  a: FieldAttrs;
  put: (x: { [K in keyof FieldAttrs]: FieldAttrs[K] | null }) => void;
  empty?: boolean;
};

/** How a field is written, and what becomes of it where its cell is empty. */
export function FieldOptions({ column, a, put, empty = true }: OptionProps) {
  const type = a.of ? (a.of === "today" ? "date" : "") : a.name ? "text" : column ? valueType(column) : "";
  return (
    <div className="flex flex-col gap-2">
      {column && (
        <label className={row}>
          It says
          <select
            className="field"
            value={a.name ? "name" : "value"}
            onChange={(e) => put(e.target.value === "name" ? onlyName : { name: null })}
          >
            <option value="value">the row’s value</option>
            <option value="name">the column’s name</option>
          </select>
        </label>
      )}
      {(type === "date" || type === "moment") && <DateOptions a={a} put={put} />}
      {type === "number" && <NumberOptions a={a} put={put} />}
      {["text", "choice", "email"].includes(type) && <TextOptions a={a} put={put} />}
      {empty && column && !a.name && <Empty a={a} put={put} />}
      {a.of === "opt-out" && (
        <p className="text-ink-2">
          Whoever follows it gets no more emails of the kind, once they have said so on the page that opens.
        </p>
      )}
    </div>
  );
}

const onlyName = {
  name: true,
  style: null,
  fromNow: null,
  decimals: null,
  thousands: null,
  currency: null,
  fallback: null,
  omit: null,
};

function DateOptions({ a, put }: OptionProps) {
  return (
    <label className={row}>
      Written as
      <select
        className="field"
        value={a.fromNow ? "days" : (a.style ?? "medium")}
        onChange={(e) =>
          put(e.target.value === "days" ? { fromNow: true, style: null } : { fromNow: null, style: e.target.value })
        }
      >
        {styles.map(([id, name]) => (
          <option key={id} value={id}>
            {name}
          </option>
        ))}
      </select>
    </label>
  );
}

function NumberOptions({ a, put }: OptionProps) {
  return (
    <>
      <label className={row}>
        Decimals
        <select
          className="field"
          value={a.decimals ?? ""}
          onChange={(e) => put({ decimals: e.target.value === "" ? null : Number(e.target.value) })}
        >
          <option value="">as the column</option>
          {[0, 1, 2, 3, 4].map((n) => (
            <option key={n}>{n}</option>
          ))}
        </select>
      </label>
      <label className={row}>
        Thousands
        <select
          className="field"
          value={a.thousands === undefined ? "" : String(a.thousands)}
          onChange={(e) => put({ thousands: e.target.value === "" ? null : e.target.value === "true" })}
        >
          <option value="">as the column</option>
          <option value="true">1,240</option>
          <option value="false">1240</option>
        </select>
      </label>
      <label className={row}>
        Currency
        <input
          className="field w-28"
          maxLength={8}
          placeholder="as the column"
          value={a.currency ?? ""}
          onChange={(e) => put({ currency: e.target.value.trim() === "" ? null : e.target.value.trim() })}
        />
      </label>
    </>
  );
}

function TextOptions({ a, put }: OptionProps) {
  return (
    <>
      <label className={row}>
        How much
        <select className="field" value={a.part ?? ""} onChange={(e) => put({ part: e.target.value || null })}>
          <option value="">all of it</option>
          <option>first word</option>
          <option>last word</option>
        </select>
      </label>
      <label className={row}>
        Case
        <select className="field" value={a.case ?? ""} onChange={(e) => put({ case: e.target.value || null })}>
          <option value="">as it is</option>
          <option>upper</option>
          <option>lower</option>
        </select>
      </label>
    </>
  );
}

// What is written where the cell is empty.
function Empty({ a, put }: OptionProps) {
  const how = a.omit ? "omit" : a.fallback !== undefined ? "words" : "stop";
  const choice = (id: string, words: string, then: () => void) => (
    <label className="flex items-baseline gap-2">
      <input type="radio" name="empty" className="accent-juniper" checked={how === id} onChange={then} />
      {words}
    </label>
  );
  return (
    <fieldset className="flex flex-col gap-1 border-t border-hair-2 pt-2">
      <legend className="mb-1 float-left w-full text-ink-2">Where it is empty</legend>
      {choice("stop", "the email waits until it is filled", () => put({ fallback: null, omit: null }))}
      {choice("omit", "leave its sentence out", () => put({ fallback: null, omit: true }))}
      {choice("words", "write a fallback", () => put({ fallback: "", omit: null }))}
      {how === "words" && (
        <input
          className="field"
          aria-label="Fallback, where it is empty"
          placeholder="nothing at all"
          value={a.fallback ?? ""}
          onChange={(e) => put({ fallback: e.target.value })}
        />
      )}
    </fieldset>
  );
}
