import { mergeAttributes, Node } from "@tiptap/core";
import { NodeViewWrapper, type ReactNodeViewProps, ReactNodeViewRenderer } from "@tiptap/react";
import { Popover } from "radix-ui";
import { createContext, useContext, useState } from "react";
import type { Column } from "../../api/client";

export type FieldAttrs = {
  column: string;
  style?: string;
  part?: string;
  case?: string;
  fromNow?: boolean;
  decimals?: number;
  fallback?: string;
};

// What the chips show: the columns, the previewed row's values, and whether
// their names are shown instead.
export const Fields = createContext<{ columns: Column[]; values: Record<string, string>; names: boolean; ready: boolean }>({
  columns: [],
  values: {},
  names: false,
  ready: false,
});

// The key under which the server gives a field's value.
export function fieldKey(a: FieldAttrs): string {
  return [a.column, a.style ?? "", a.part ?? "", a.case ?? "", String(a.fromNow ?? false), a.decimals ?? "", a.fallback ?? "\0"].join("|");
}

// A field is one inline atom, bound to a column's id.
export const FieldNode = Node.create({
  name: "field",
  group: "inline",
  inline: true,
  atom: true,
  addAttributes() {
    const plain = { default: undefined, rendered: false };
    return { column: { default: "" }, style: plain, part: plain, case: plain, fromNow: plain, decimals: plain, fallback: plain };
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
  const a = node.attrs as FieldAttrs;
  const column = columns.find((c) => c.id === a.column);
  const value = values[fieldKey(a)];
  const missing = !column || (ready && value === undefined);
  const text = names || value === undefined ? (column?.name ?? "a column that is gone") : value || "\u00a0";
  return (
    <NodeViewWrapper as="span" className="inline">
      <Popover.Root open={open} onOpenChange={setOpen}>
        <Popover.Trigger asChild disabled={!editor.isEditable}>
          <span
            className="chip"
            role="button"
            tabIndex={-1}
            data-missing={missing}
            contentEditable={false}
            title={`${column?.name ?? "?"}${missing ? ": no value in this row, and no other words" : ""}`}
          >
            {text}
          </span>
        </Popover.Trigger>
        <Popover.Portal>
          <Popover.Content
            className="pop w-72 p-3.5"
            sideOffset={6}
            collisionPadding={12}
            onCloseAutoFocus={(e) => {
              e.preventDefault();
              editor.commands.focus();
            }}
          >
            <h3 className="mb-2 text-xs font-[650] text-ink-2">{column?.name ?? "This column is gone"}</h3>
            {column && <FieldOptions column={column} a={a} put={(x) => updateAttributes(x)} />}
            <button
              type="button"
              className="link mt-2 text-brick!"
              onClick={() => {
                setOpen(false);
                deleteNode();
              }}
            >
              Take the field out
            </button>
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
    </NodeViewWrapper>
  );
}

const styles = [
  ["short", "29/03/2027"],
  ["medium", "29 Mar 2027"],
  ["long", "29 March 2027"],
  ["weekday", "Monday 29 March"],
  ["iso", "2027-03-29"],
  ["days", "14 days (from the day it is sent)"],
];

function FieldOptions({ column, a, put }: { column: Column; a: FieldAttrs; put: (x: Partial<FieldAttrs>) => void }) {
  const row = "flex items-center justify-between gap-3";
  return (
    <div className="flex flex-col gap-2">
      {(column.type === "date" || column.type === "moment") && (
        <label className={row}>
          Written as
          <select
            className="field"
            value={a.fromNow ? "days" : (a.style ?? "medium")}
            onChange={(e) =>
              put(e.target.value === "days" ? { fromNow: true, style: undefined } : { fromNow: undefined, style: e.target.value })
            }
          >
            {styles.map(([id, name]) => (
              <option key={id} value={id}>
                {name}
              </option>
            ))}
          </select>
        </label>
      )}
      {column.type === "number" && (
        <label className={row}>
          Decimals
          <select
            className="field"
            value={a.decimals ?? ""}
            onChange={(e) => put({ decimals: e.target.value === "" ? undefined : Number(e.target.value) })}
          >
            <option value="">as it is</option>
            {[0, 1, 2, 3].map((n) => (
              <option key={n}>{n}</option>
            ))}
          </select>
        </label>
      )}
      {["text", "choice", "email"].includes(column.type) && (
        <>
          <label className={row}>
            How much
            <select className="field" value={a.part ?? ""} onChange={(e) => put({ part: e.target.value || undefined })}>
              <option value="">all of it</option>
              <option>first word</option>
              <option>last word</option>
            </select>
          </label>
          <label className={row}>
            Case
            <select className="field" value={a.case ?? ""} onChange={(e) => put({ case: e.target.value || undefined })}>
              <option value="">as it is</option>
              <option>upper</option>
              <option>lower</option>
            </select>
          </label>
        </>
      )}
      <label className="flex flex-col gap-1 border-t border-hair-2 pt-2">
        Other words where it is empty
        <input
          className="field"
          placeholder="none: the email cannot go"
          value={a.fallback ?? ""}
          onChange={(e) => put({ fallback: e.target.value === "" ? undefined : e.target.value })}
        />
      </label>
    </div>
  );
}
