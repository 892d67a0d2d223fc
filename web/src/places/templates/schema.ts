// What a letter is made of, as the editor keeps it: the nodes and marks of the
// document tree that the server knows (internal/core/template), under the same names.
import { Extension, Mark, mergeAttributes, Node } from "@tiptap/core";
import { addRowAfter, goToNextCell, isInTable, tableEditing } from "@tiptap/pm/tables";
import { ReactNodeViewRenderer } from "@tiptap/react";
import type { Node as Tree } from "../../api/client";
import { ButtonView, ImageView, PartView, PieceView, RoundUpView, RowTableView, SignatureView } from "./blocks";
import type { Line } from "./line";

const kept = { default: null, rendered: false };

/** Puts an attribute of a block into the HTML that is copied, and reads it from what is pasted. */
function data(name: string) {
  return {
    default: null,
    parseHTML: (el: HTMLElement) => {
      try {
        return JSON.parse(el.getAttribute(`data-${name}`) ?? "null") as unknown;
      } catch {
        return null;
      }
    },
    renderHTML: (a: Record<string, unknown>) =>
      a[name] === null ? {} : { [`data-${name}`]: JSON.stringify(a[name]) },
  };
}

const align = {
  default: null,
  parseHTML: (el: HTMLElement) => {
    const a = el.style.textAlign || el.getAttribute("align");
    return a === "center" || a === "right" ? a : null;
  },
  renderHTML: (a: Record<string, unknown>) => (a["align"] ? { style: `text-align:${a["align"] as string}` } : {}),
};

/** Where the lines of paragraphs and headings stand. */
export const Align = Extension.create({
  name: "align",
  addGlobalAttributes: () => [{ types: ["paragraph", "heading"], attributes: { align } }],
});

export const Quote = Node.create({
  name: "quote",
  group: "block",
  content: "(paragraph|bulletList|orderedList)+",
  defining: true,
  parseHTML: () => [{ tag: "blockquote" }],
  renderHTML: ({ HTMLAttributes }) => ["blockquote", HTMLAttributes, 0],
});

export const Divider = Node.create({
  name: "divider",
  group: "block",
  parseHTML: () => [{ tag: "hr" }],
  renderHTML: ({ HTMLAttributes }) => ["hr", HTMLAttributes],
});

/** A link's target is text, or texts and fields in turn. */
export const Link = Mark.create({
  name: "link",
  inclusive: false,
  addAttributes: () => ({
    href: {
      default: "",
      parseHTML: (el: HTMLElement) => {
        const fields = el.getAttribute("data-href");
        if (fields) return JSON.parse(fields) as Line;
        return el.getAttribute("href") ?? "";
      },
      renderHTML: (a: Record<string, unknown>) =>
        typeof a["href"] === "string" ? { href: a["href"] } : { "data-href": JSON.stringify(a["href"]) },
    },
  }),
  parseHTML: () => [
    {
      tag: "a",
      getAttrs: (el) =>
        el.hasAttribute("data-href") || /^(https?:\/\/|mailto:|tel:)/i.test(el.getAttribute("href") ?? "")
          ? null
          : false,
    },
  ],
  renderHTML: ({ HTMLAttributes }) => ["a", mergeAttributes(HTMLAttributes, { rel: "noreferrer" }), 0],
});

/** The colours that words may have, each with the one that dark email programs show (internal/core/template/page.go). */
export const palette = [
  { name: "grey", colour: "#5a5f69" },
  { name: "juniper", colour: "#1e5557" },
  { name: "amber", colour: "#9a6400" },
  { name: "brick", colour: "#a63a2b" },
  { name: "plum", colour: "#6a3d6e" },
  { name: "blue", colour: "#24539b" },
] as const;

const hex = (css: string): string | null => {
  if (/^#[0-9a-f]{6}$/i.test(css)) return css.toLowerCase();
  const rgb = /^rgb\((\d+), ?(\d+), ?(\d+)\)$/.exec(css);
  return rgb
    ? `#${rgb
        .slice(1)
        .map((n) => Number(n).toString(16).padStart(2, "0"))
        .join("")}`
    : null;
};

// Of what is pasted only the palette's colours are kept: any other would be unreadable somewhere.
export const Colour = Mark.create({
  name: "colour",
  addAttributes: () => ({
    colour: {
      default: null,
      parseHTML: (el: HTMLElement) => hex(el.style.color),
      renderHTML: (a: Record<string, unknown>) => ({ style: `color:${String(a["colour"])}` }),
    },
  }),
  parseHTML: () => [
    {
      tag: "span[style]",
      getAttrs: (el) => (palette.some((p) => p.colour === hex(el.style.color)) ? null : false),
    },
  ],
  renderHTML: ({ HTMLAttributes }) => ["span", HTMLAttributes, 0],
});

const cell = {
  colspan: { default: 1, rendered: false },
  rowspan: { default: 1, rendered: false },
  colwidth: { default: null, rendered: false },
};

// What a table's nodes are to the commands that change tables.
const tableRoles = { table: "table", tableRow: "row", tableCell: "cell", tableHeader: "header_cell" };

/** A table written by hand. */
export const Table = Node.create({
  name: "table",
  group: "block",
  content: "tableRow+",
  isolating: true,
  // It is asked of every node.
  extendNodeSchema: ({ name }: { name: string }) =>
    name in tableRoles ? { tableRole: tableRoles[name as keyof typeof tableRoles] } : {},
  parseHTML: () => [{ tag: "table" }],
  renderHTML: () => ["table", ["tbody", 0]],
  addKeyboardShortcuts() {
    const { editor } = this;
    const go = (by: 1 | -1) => goToNextCell(by)(editor.state, editor.view.dispatch);
    // Behind the last cell comes another row.
    const next = () => go(1) || (isInTable(editor.state) && addRowAfter(editor.state, editor.view.dispatch) && go(1));
    return { Tab: next, "Shift-Tab": () => go(-1) };
  },
  addProseMirrorPlugins: () => [tableEditing()],
});
export const TableRow = Node.create({
  name: "tableRow",
  content: "(tableCell|tableHeader)+",
  parseHTML: () => [{ tag: "tr" }],
  renderHTML: () => ["tr", 0],
});
export const TableCell = Node.create({
  name: "tableCell",
  content: "paragraph+",
  isolating: true,
  addAttributes: () => cell,
  parseHTML: () => [{ tag: "td" }],
  renderHTML: () => ["td", 0],
});
export const TableHeader = Node.create({
  name: "tableHeader",
  content: "paragraph+",
  isolating: true,
  addAttributes: () => cell,
  parseHTML: () => [{ tag: "th" }],
  renderHTML: () => ["th", 0],
});

export const Button = Node.create({
  name: "button",
  group: "block",
  content: "(text|field)*",
  marks: "",
  defining: true,
  addAttributes: () => ({ href: data("href"), align }),
  parseHTML: () => [{ tag: "div[data-block=button]" }],
  renderHTML: ({ HTMLAttributes }) => ["div", mergeAttributes(HTMLAttributes, { "data-block": "button" }), 0],
  addNodeView: () => ReactNodeViewRenderer(ButtonView),
});

export const Image = Node.create({
  name: "image",
  group: "block",
  atom: true,
  draggable: true,
  addAttributes: () => ({
    file: data("file"),
    type: data("type"),
    data: kept,
    alt: data("alt"),
    width: data("width"),
    align,
  }),
  parseHTML: () => [{ tag: "div[data-block=image]" }],
  renderHTML: ({ HTMLAttributes }) => ["div", mergeAttributes(HTMLAttributes, { "data-block": "image" })],
  addNodeView: () => ReactNodeViewRenderer(ImageView),
});

// A block that is edited in a panel of its own.
function block(name: string, attributes: string[], view: Parameters<typeof ReactNodeViewRenderer<HTMLElement>>[0]) {
  return Node.create({
    name,
    group: "block",
    atom: true,
    draggable: true,
    addAttributes: () => Object.fromEntries(attributes.map((a) => [a, data(a)])),
    parseHTML: () => [{ tag: `div[data-block=${name}]` }],
    renderHTML: ({ HTMLAttributes }) => ["div", mergeAttributes(HTMLAttributes, { "data-block": name })],
    addNodeView: () => ReactNodeViewRenderer(view),
  });
}
export const RowTable = block("rowTable", ["fields", "over"], RowTableView);
export const RoundUpTable = block("roundUpTable", ["fields", "order", "limit", "more"], RoundUpView);
export const Piece = block("piece", ["piece"], PieceView);
export const Signature = block("signature", [], SignatureView);

export const Part = Node.create({
  name: "part",
  // A part stands in a letter, not in another part.
  group: "outer",
  content: "block+",
  defining: true,
  isolating: true,
  addAttributes: () => ({ if: data("if") }),
  parseHTML: () => [{ tag: "div[data-block=part]" }],
  renderHTML: ({ HTMLAttributes }) => ["div", mergeAttributes(HTMLAttributes, { "data-block": "part" }), 0],
  addNodeView: () => ReactNodeViewRenderer(PartView),
});

/** A letter: blocks, and parts that are shown or not. */
export const Letter = Node.create({ name: "doc", topNode: true, content: "(block|outer)+" });
/** A text that many letters use has no parts. */
export const Blocks = Node.create({ name: "doc", topNode: true, content: "block+" });
export const OneLine = Node.create({ name: "doc", topNode: true, content: "paragraph" });

// What the editor keeps for itself of cells and lists.
const own = ["colspan", "rowspan", "colwidth", "start"];

/** The editor's own mark of a bracket that opens no list of fields. */
export const plainBracket = "plainBracket";

/** The tree as the server writes it: without what says nothing. */
export function tidy(n: Tree): Tree {
  const attrs = Object.entries(n.attrs ?? {}).filter(
    ([k, v]) =>
      v !== null &&
      v !== undefined &&
      v !== false &&
      !own.includes(k) &&
      !((n.type === "orderedList" || n.type === "listItem") && k === "type"),
  );
  const marks = n.marks?.filter((m) => m.type !== plainBracket).map((m) => (m.attrs ? m : { type: m.type }));
  return {
    type: n.type,
    ...(n.text === undefined ? {} : { text: n.text }),
    ...(marks && marks.length > 0 ? { marks } : {}),
    ...(attrs.length > 0 ? { attrs: Object.fromEntries(attrs) } : {}),
    ...(n.content && n.content.length > 0 ? { content: joined(n.content.map(tidy)) } : {}),
  };
}

// Texts that stand beside each other and look the same are one.
function joined(list: Tree[]): Tree[] {
  const out: Tree[] = [];
  for (const n of list) {
    const last = out[out.length - 1];
    if (last?.text !== undefined && n.text !== undefined && JSON.stringify(last.marks) === JSON.stringify(n.marks))
      out[out.length - 1] = { ...last, text: last.text + n.text };
    else out.push(n);
  }
  return out;
}
