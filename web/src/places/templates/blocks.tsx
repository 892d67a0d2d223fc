// The blocks of a letter that are more than words: each as it will stand there, with a panel
// to set it from its edge.
import { NodeViewContent, NodeViewWrapper, type ReactNodeViewProps } from "@tiptap/react";
import { Popover } from "radix-ui";
import { type ReactNode, useContext, useId } from "react";
import type { Column, Condition } from "../../api/client";
import { NumberField } from "../../parts/fields";
import { usePicture } from "../../parts/letter";
import { ConditionEditor } from "../sheets/condition";
import { type FieldAttrs, fieldKey, fieldName, FieldOptions, Fields, keyOf } from "./field";
import { keepImage } from "./images";
import { type Line, LineField } from "./line";
import { Plain } from "./plain";

type View = ReactNodeViewProps;

// A block with its name at its head, which opens what it is set with.
function Framed({
  view,
  name,
  note,
  children,
  panel,
  wide,
}: {
  view: View;
  name: string;
  note?: ReactNode;
  children: ReactNode;
  panel?: ReactNode;
  wide?: boolean;
}) {
  const may = view.editor.isEditable;
  return (
    <NodeViewWrapper
      className="letter-block"
      data-selected={view.selected || undefined}
      data-drag-handle={view.node.isAtom || undefined}
    >
      <div className="flex items-baseline gap-2 font-sans text-xs text-ink-2" contentEditable={false}>
        {panel && may ? (
          <Popover.Root>
            <Popover.Trigger className="blank text-xs!">{name}</Popover.Trigger>
            <Popover.Portal>
              <Popover.Content
                aria-label={name}
                className={`pop max-h-[70vh] overflow-auto p-3.5 text-[13px] ${wide ? "w-[560px]" : "w-80"} max-w-[92vw]`}
                sideOffset={6}
                align="start"
                collisionPadding={12}
              >
                {panel}
              </Popover.Content>
            </Popover.Portal>
          </Popover.Root>
        ) : (
          <span>{name}</span>
        )}
        {note}
        {may && (
          <button type="button" className="link ml-auto text-xs!" onClick={() => view.deleteNode()}>
            remove
          </button>
        )}
      </div>
      {children}
    </NodeViewWrapper>
  );
}

const alignments = [
  ["", "where lines begin"],
  ["center", "centred"],
  ["right", "on the right"],
] as const;

function AlignField({ view }: { view: View }) {
  return (
    <label className="flex items-center justify-between gap-3">
      It stands
      <select
        className="field"
        value={(view.node.attrs["align"] as string | null) ?? ""}
        onChange={(e) => view.updateAttributes({ align: e.target.value || null })}
      >
        {alignments.map(([id, words]) => (
          <option key={id} value={id}>
            {words}
          </option>
        ))}
      </select>
    </label>
  );
}

export function ButtonView(view: View) {
  const { columns } = useContext(Fields);
  const align = (view.node.attrs["align"] as string | null) ?? "left";
  const href = (view.node.attrs["href"] as Line | null) ?? "";
  return (
    <Framed
      view={view}
      name="Button"
      note={(href === "" || href === "https://") && <span className="bad">leads nowhere yet</span>}
      panel={
        <div className="flex flex-col gap-2.5">
          <LineField
            label="It leads to"
            value={href}
            columns={columns}
            onChange={(l) => view.updateAttributes({ href: l })}
          />
          <AlignField view={view} />
        </div>
      }
    >
      <div style={{ textAlign: align as "left" }}>
        <NodeViewContent className="letter-button" />
      </div>
    </Framed>
  );
}

export function ImageView(view: View) {
  const { columns } = useContext(Fields);
  const id = useId();
  const a = view.node.attrs as {
    file: string | null;
    type: string;
    alt: Line | null;
    width: number | null;
    align: string | null;
  };
  const url = usePicture(a.file ?? "");
  const replace = async (f: File | undefined) => f && view.updateAttributes(await keepImage(f));
  const none = !a.alt || a.alt.length === 0;
  return (
    <Framed
      view={view}
      name="Image"
      note={none && <span className="text-marigold">no words for those who do not see it</span>}
      panel={
        <div className="flex flex-col gap-2.5">
          <LineField
            label="In words, for those who do not see it"
            value={a.alt ?? ""}
            columns={columns}
            onChange={(l) => view.updateAttributes({ alt: l })}
          />
          <div className="flex items-center justify-between gap-3">
            <span>Width, of 600</span>
            <NumberField
              label="Width in pixels"
              value={a.width ?? 600}
              min={20}
              max={600}
              onChange={(n) => view.updateAttributes({ width: n })}
            />
          </div>
          <AlignField view={view} />
          <label className="link cursor-pointer" htmlFor={id}>
            Choose another image
            <input
              id={id}
              type="file"
              className="sr-only"
              accept="image/png,image/jpeg,image/gif"
              onChange={(e) => void replace(e.target.files?.[0])}
            />
          </label>
        </div>
      }
    >
      <div style={{ textAlign: (a.align ?? "left") as "left" }} data-drag-handle>
        {url ? (
          <img
            src={url}
            width={a.width ?? undefined}
            className="inline-block max-w-full"
            alt={typeof a.alt === "string" ? a.alt : "the image"}
          />
        ) : (
          <span className="text-ink-2">the image is on its way</span>
        )}
      </div>
    </Framed>
  );
}

// The fields of a table, in order: which, how each is written, and more.
function FieldList({ view, roundUp }: { view: View; roundUp?: boolean }) {
  const { columns } = useContext(Fields);
  const fields = (view.node.attrs["fields"] as FieldAttrs[] | null) ?? [];
  const put = (list: FieldAttrs[]) => list.length > 0 && view.updateAttributes({ fields: list });
  const move = (i: number, by: number) => {
    const list = [...fields];
    const [x] = list.splice(i, 1);
    if (x) list.splice(i + by, 0, x);
    put(list);
  };
  const left = columns.filter((c) => !fields.some((f) => f.column === c.id));
  return (
    <ul className="flex flex-col gap-1">
      {fields.map((f, i) => (
        <li key={i} className="flex items-center gap-3 border-b border-hair-2 py-1">
          <Popover.Root>
            <Popover.Trigger className="blank">{fieldName(f, columns)}</Popover.Trigger>
            <Popover.Portal>
              <Popover.Content
                aria-label={fieldName(f, columns)}
                className="pop w-72 p-3.5 text-[13px]"
                sideOffset={6}
                align="start"
                collisionPadding={12}
              >
                <FieldOptions
                  a={f}
                  column={columns.find((c) => c.id === f.column)}
                  empty={!roundUp}
                  put={(x) => put(fields.map((g, k) => (k === i ? (clean({ ...g, ...x }) as FieldAttrs) : g)))}
                />
              </Popover.Content>
            </Popover.Portal>
          </Popover.Root>
          <span className="ml-auto flex gap-3 text-xs">
            <button
              type="button"
              className="link"
              disabled={i === 0}
              aria-label={`Move ${fieldName(f, columns)} up`}
              onClick={() => move(i, -1)}
            >
              up
            </button>
            <button
              type="button"
              className="link"
              disabled={i === fields.length - 1}
              aria-label={`Move ${fieldName(f, columns)} down`}
              onClick={() => move(i, 1)}
            >
              down
            </button>
            <button
              type="button"
              className="link"
              disabled={fields.length === 1}
              aria-label={`Remove ${fieldName(f, columns)}`}
              onClick={() => put(fields.filter((_, k) => k !== i))}
            >
              remove
            </button>
          </span>
        </li>
      ))}
      {left.length > 0 && fields.length < 30 && (
        <li>
          <select
            className="field"
            aria-label="Add a column"
            value=""
            onChange={(e) => put([...fields, { column: e.target.value }])}
          >
            <option value="">add a column …</option>
            {left.map((c) => (
              <option key={c.id} value={c.id}>
                {c.name}
              </option>
            ))}
          </select>
        </li>
      )}
    </ul>
  );
}

const clean = (x: Record<string, unknown>) =>
  Object.fromEntries(Object.entries(x).filter(([, v]) => v !== null && v !== undefined));

function useSaid() {
  const { columns, values, names, ready } = useContext(Fields);
  return (f: FieldAttrs) => {
    const v = values[fieldKey(f)];
    return names || v === undefined ? (ready && !names ? "" : fieldName(f, columns)) : v;
  };
}

export function RowTableView(view: View) {
  const { columns } = useContext(Fields);
  const said = useSaid();
  const fields = (view.node.attrs["fields"] as FieldAttrs[] | null) ?? [];
  const over = view.node.attrs["over"] === true;
  return (
    <Framed
      view={view}
      name="The row’s values"
      panel={
        <div className="flex flex-col gap-2.5">
          <FieldList view={view} />
          <label className="flex items-center justify-between gap-3">
            Each name stands
            <select
              className="field"
              value={over ? "over" : ""}
              onChange={(e) => view.updateAttributes({ over: e.target.value === "over" || null })}
            >
              <option value="">beside its value</option>
              <option value="over">over its value</option>
            </select>
          </label>
        </div>
      }
    >
      <table contentEditable={false}>
        <tbody>
          {fields.map((f, i) =>
            over ? (
              <tr key={i}>
                <td>
                  <small className="block text-ink-2">{fieldName(f, columns)}</small>
                  {said(f)}
                </td>
              </tr>
            ) : (
              <tr key={i}>
                <td>{fieldName(f, columns)}</td>
                <td>{said(f)}</td>
              </tr>
            ),
          )}
        </tbody>
      </table>
    </Framed>
  );
}

type Order = { column: string; descending?: boolean };

function OrderFields({ view, columns }: { view: View; columns: Column[] }) {
  const order = (view.node.attrs["order"] as Order[] | null) ?? [];
  const put = (list: Order[]) => view.updateAttributes({ order: list.length > 0 ? list : null });
  return (
    <>
      {[...order, undefined].slice(0, 3).map((o, i) => (
        <div key={i} className="flex items-center gap-2">
          <span className="w-20 text-ink-2">{i === 0 ? "Sorted by" : "then by"}</span>
          <select
            className="field"
            aria-label={i === 0 ? "Sorted by" : `Then by, ${String(i)}`}
            value={o?.column ?? ""}
            onChange={(e) =>
              put(
                e.target.value === ""
                  ? order.filter((_, k) => k !== i)
                  : [...order.slice(0, i), { column: e.target.value }, ...order.slice(i + 1)],
              )
            }
          >
            <option value="">{i === 0 ? "the sheet’s order" : "nothing more"}</option>
            {columns.map((c) => (
              <option key={c.id} value={c.id}>
                {c.name}
              </option>
            ))}
          </select>
          {o && (
            <label className="flex items-center gap-1.5">
              <input
                type="checkbox"
                className="accent-juniper"
                checked={o.descending === true}
                onChange={(e) =>
                  put(
                    order.map((x, k) =>
                      k === i ? { column: x.column, ...(e.target.checked ? { descending: true } : {}) } : x,
                    ),
                  )
                }
              />
              downwards
            </label>
          )}
        </div>
      ))}
    </>
  );
}

export function RoundUpView(view: View) {
  const { columns } = useContext(Fields);
  const said = useSaid();
  const fields = (view.node.attrs["fields"] as FieldAttrs[] | null) ?? [];
  const limit = (view.node.attrs["limit"] as number | null) ?? 0;
  const more = (view.node.attrs["more"] as string | null) ?? "";
  return (
    <Framed
      view={view}
      name="The rows of the round-up"
      note={<span>one line for each row that the email is about</span>}
      panel={
        <div className="flex flex-col gap-2.5">
          <FieldList view={view} roundUp />
          <OrderFields view={view} columns={columns} />
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              className="accent-juniper"
              checked={limit > 0}
              onChange={(e) =>
                view.updateAttributes(
                  e.target.checked ? { limit: 20, more: "and [number] more" } : { limit: null, more: null },
                )
              }
            />
            not more rows than
            {limit > 0 && (
              <NumberField
                label="Rows at most"
                value={limit}
                min={1}
                max={1000}
                onChange={(n) => view.updateAttributes({ limit: n })}
              />
            )}
          </label>
          {limit > 0 && (
            <label className="flex flex-col gap-1">
              Below it, for the others
              <input
                className="field"
                value={more}
                aria-invalid={!more.includes("[number]")}
                onChange={(e) => view.updateAttributes({ more: e.target.value })}
              />
              {!more.includes("[number]") && (
                <span className="bad">Write [number] where their number is to stand.</span>
              )}
            </label>
          )}
        </div>
      }
    >
      <table contentEditable={false}>
        <thead>
          <tr>
            {fields.map((f, i) => (
              <th key={i}>{fieldName(f, columns)}</th>
            ))}
          </tr>
        </thead>
        <tbody>
          <tr>
            {fields.map((f, i) => (
              <td key={i}>{said(f)}</td>
            ))}
          </tr>
          <tr className="text-ink-2">
            <td colSpan={fields.length}>…</td>
          </tr>
        </tbody>
      </table>
      {limit > 0 && <p className="text-ink-2">{more}</p>}
    </Framed>
  );
}

export function PartView(view: View) {
  const { columns, parts } = useContext(Fields);
  const cond = view.node.attrs["if"] as Condition | null;
  const part = cond ? parts[keyOf(cond)] : undefined;
  return (
    <Framed
      view={view}
      name={cond ? `Shown only if ${part?.words ?? "…"}` : "Shown only if …"}
      note={
        part && (
          <span className={part.shown ? "text-juniper" : "text-marigold"}>
            {part.shown ? "shown for this row" : "not shown for this row"}
          </span>
        )
      }
      wide
      panel={
        <>
          <h2 className="mb-2 text-xs font-[650] text-ink-2">It is shown only if</h2>
          <ConditionEditor
            columns={columns}
            value={cond ?? undefined}
            first="a column …"
            onChange={(c) => c && view.updateAttributes({ if: c })}
          />
        </>
      }
    >
      <NodeViewContent className={`letter-part ${part && !part.shown ? "text-ink-2" : ""}`} />
    </Framed>
  );
}

export function PieceView(view: View) {
  const { pieces, language } = useContext(Fields);
  const p = pieces.find((x) => x.id === view.node.attrs["piece"]);
  const body =
    p?.content.variants?.find((v) => v.language.toLowerCase() === language.toLowerCase())?.body ?? p?.content.body;
  return (
    <Framed
      view={view}
      name={p ? `Piece of text: ${p.name}` : "A piece of text that is gone"}
      note={p && p.usedBy.length > 1 && <span>stands in {p.usedBy.length} templates; change it under Templates</span>}
    >
      <div contentEditable={false} className="text-ink-2">
        {body && <Plain node={body} />}
      </div>
    </Framed>
  );
}

export function SignatureView(view: View) {
  return (
    <Framed view={view} name="Signature">
      <p contentEditable={false} className="text-ink-2">
        That of the sender, as it stands under Setup.
      </p>
    </Framed>
  );
}

/** What a block begins with when it is put in. */
export const blanks = {
  button: (text: string) => ({ type: "button", attrs: { href: "https://" }, content: [{ type: "text", text }] }),
  rowTable: (columns: Column[]) => ({
    type: "rowTable",
    attrs: { fields: columns.slice(0, 4).map((c) => ({ column: c.id })) },
  }),
  roundUpTable: (columns: Column[]) => ({
    type: "roundUpTable",
    attrs: { fields: columns.slice(0, 4).map((c) => ({ column: c.id })) },
  }),
  part: (cond: Condition) => ({ type: "part", attrs: { if: cond }, content: [{ type: "paragraph" }] }),
};
