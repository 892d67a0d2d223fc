// The editors of a letter: its body, its lines, and texts that many letters use.
import { type Editor, Extension, Mark } from "@tiptap/core";
import { Placeholder } from "@tiptap/extensions";
import { EditorContent, useEditor } from "@tiptap/react";
import StarterKit from "@tiptap/starter-kit";
import Suggestion, { type SuggestionKeyDownProps, type SuggestionProps } from "@tiptap/suggestion";
import type { MarkType } from "@tiptap/pm/model";
import { NodeSelection } from "@tiptap/pm/state";
import type { EditorView } from "@tiptap/pm/view";
import { useEffect, useState } from "react";
import type { Column, Node } from "../../api/client";
import { typeName } from "../sheets/cell";
import { FieldNode, ownFields } from "./field";
import { putImages } from "./images";
import { cleanPasted } from "./paste";
import {
  Align,
  Blocks,
  Button,
  Colour,
  Divider,
  Image,
  Letter,
  Link,
  OneLine,
  Part,
  Piece,
  Quote,
  RoundUpTable,
  RowTable,
  Signature,
  Table,
  TableCell,
  TableHeader,
  TableRow,
  plainBracket,
  tidy,
} from "./schema";

/** What may be picked as a field: a column, or what has none. */
export type Pickable = { name: string; note: string; attrs: Record<string, unknown> };
export const pickable = (columns: Column[]): Pickable[] => [
  ...columns.map((c) => ({ name: c.name, note: typeName(c.type), attrs: { column: c.id } })),
  ...ownFields.map((o) => ({ name: o.name, note: o.note, attrs: { of: o.of } })),
];

type Pick = { items: Pickable[]; at: number; x: number; y: number; choose: (c: Pickable) => void } | null;

// A bracket that is meant as one: it opens no list. Only the editor knows the mark.
const PlainBracket = Mark.create({ name: plainBracket, inclusive: false, renderHTML: () => ["span", 0] });

// Typing [ opens the list of fields; what follows narrows it.
function fieldPicker(columns: () => Column[], show: (p: Pick | ((old: Pick) => Pick)) => void) {
  return Extension.create({
    name: "fieldPicker",
    addProseMirrorPlugins() {
      let now: Pick = null;
      const put = (p: Pick) => {
        now = p;
        show(p);
      };
      const place = (p: SuggestionProps<Pickable>): Pick => {
        const r = p.clientRect?.();
        return { items: p.items, at: 0, x: r?.left ?? 0, y: (r?.bottom ?? 0) + 4, choose: (c) => p.command(c) };
      };
      return [
        Suggestion<Pickable>({
          editor: this.editor,
          char: "[",
          allowSpaces: true,
          allowedPrefixes: null,
          allow: ({ state, range }) =>
            !state.doc.rangeHasMark(range.from, range.from + 1, state.schema.marks[plainBracket] as MarkType),
          items: ({ query }) =>
            pickable(columns()).filter((c) => c.name.toLowerCase().includes(query.trim().toLowerCase())),
          command: ({ editor, range, props }) =>
            editor
              .chain()
              .focus()
              .insertContentAt(range, { type: "field", attrs: (props as Pickable).attrs })
              .run(),
          render: () => ({
            onStart: (p) => put(place(p)),
            onUpdate: (p) => put(place(p)),
            onExit: () => put(null),
            onKeyDown: ({ event }: SuggestionKeyDownProps) => {
              if (!now) return false;
              if (event.key === "ArrowDown") put({ ...now, at: Math.min(now.at + 1, now.items.length - 1) });
              else if (event.key === "ArrowUp") put({ ...now, at: Math.max(now.at - 1, 0) });
              else if ((event.key === "Enter" || event.key === "Tab" || event.key === "]") && now.items[now.at])
                now.choose(now.items[now.at] as Pickable);
              else if (event.key === "Escape") put(null);
              else return false;
              return true;
            },
          }),
        }),
      ];
    },
  });
}

// A field or block that is selected, as the arrows do, opens its panel with Enter.
const OpenSelected = Extension.create({
  name: "openSelected",
  priority: 1000,
  addKeyboardShortcuts: () => ({
    Enter: ({ editor }) => {
      const { selection } = editor.state;
      const dom = selection instanceof NodeSelection ? editor.view.nodeDOM(selection.from) : null;
      const opener = dom instanceof HTMLElement ? dom.querySelector<HTMLElement>("[aria-haspopup=dialog]") : null;
      opener?.click();
      return opener !== null;
    },
  }),
});

class Latest {
  constructor(
    public columns: Column[],
    public onChange: (n: Node) => void,
  ) {}
  set(columns: Column[], onChange: (n: Node) => void) {
    this.columns = columns;
    this.onChange = onChange;
  }
}

type EditorOptions = {
  content: Node;
  columns: Column[];
  editable: boolean;
  kind: "line" | "letter" | "piece"; // what it holds
  label: string;
  hint?: string; // what is to be written, while nothing is
  focused?: boolean; // at first
  onChange: (n: Node) => void;
  onEnter?: () => void; // of a line
};

const plain = {
  bold: false as const,
  italic: false as const,
  underline: false as const,
  heading: false as const,
  bulletList: false as const,
  orderedList: false as const,
  listItem: false as const,
  listKeymap: false as const,
  hardBreak: false as const,
};
const whole = [Align, Quote, Divider, Link, Colour, Table, TableRow, TableCell, TableHeader, Button, Image];
const ofSheets = [RowTable, RoundUpTable, Piece, Signature, Part];

function extensionsOf(kind: EditorOptions["kind"]) {
  const line = kind === "line";
  return [
    StarterKit.configure({
      document: false,
      blockquote: false,
      code: false,
      codeBlock: false,
      horizontalRule: false,
      strike: false,
      trailingNode: false,
      link: false,
      ...(line ? plain : { heading: { levels: [1, 2, 3] as (1 | 2 | 3)[] } }),
    }),
    ...(line ? [OneLine] : kind === "piece" ? [Blocks, ...whole] : [Letter, ...whole, ...ofSheets]),
    FieldNode,
    PlainBracket,
    OpenSelected,
  ];
}

const hasImages = (list: DataTransfer | null) => [...(list?.files ?? [])].some((f) => f.type.startsWith("image/"));

export function useLetterEditor({
  content,
  columns,
  editable,
  kind,
  label,
  hint = "",
  focused,
  onChange,
  onEnter,
}: EditorOptions) {
  const [pick, show] = useState<Pick>(null);
  // The editor is made once; what it reaches for is as it is by then.
  const [latest] = useState(() => new Latest(columns, onChange));
  useEffect(() => latest.set(columns, onChange), [latest, columns, onChange]);
  const [picker] = useState(() => fieldPicker(() => latest.columns, show));
  const line = kind === "line";
  // Enter in a line leads on, where neither the list of fields nor a selected field answers it.
  const enterInLine = (view: EditorView, e: KeyboardEvent) => {
    if (e.key !== "Enter" || pick || view.state.selection instanceof NodeSelection) return false;
    onEnter?.();
    return true;
  };
  const editor: Editor | null = useEditor({
    extensions: [...extensionsOf(kind), Placeholder.configure({ placeholder: hint }), picker],
    content,
    editable,
    injectCSS: false,
    editorProps: {
      transformPastedHTML: cleanPasted,
      attributes: { "aria-label": label, role: "textbox", "aria-multiline": String(!line) },
      handlePaste: (view, event) => {
        if (line) {
          const text = event.clipboardData?.getData("text/plain").replace(/\s*[\r\n]+\s*/g, " ") ?? "";
          view.dispatch(view.state.tr.insertText(text));
          return true;
        }
        // A program that copies words copies a picture of them beside: its words are meant.
        if (!hasImages(event.clipboardData) || event.clipboardData?.getData("text/html")) return false;
        void putImages(editor, [...(event.clipboardData?.files ?? [])]);
        return true;
      },
      handleDrop: (view, event) => {
        if (line || !hasImages(event.dataTransfer)) return false;
        event.preventDefault();
        const at = view.posAtCoords({ left: event.clientX, top: event.clientY })?.pos;
        void putImages(editor, [...(event.dataTransfer?.files ?? [])], at);
        return true;
      },
      // [[ is a plain bracket.
      handleTextInput: (view, from, to, text) => {
        const { state } = view;
        if (text !== "[" || from !== to || from < 2 || state.doc.textBetween(from - 1, from) !== "[") return false;
        const mark = state.schema.marks[plainBracket] as MarkType;
        if (state.doc.rangeHasMark(from - 1, from, mark)) return false;
        view.dispatch(state.tr.addMark(from - 1, from, mark.create()));
        return true;
      },
      handleKeyDown: line ? enterInLine : undefined,
    },
    onUpdate: ({ editor }) => latest.onChange(tidy(editor.getJSON() as Node)),
  });
  const [atFirst] = useState(focused === true && editable);
  useEffect(() => {
    if (atFirst) editor?.commands.focus("end");
  }, [editor, atFirst]);
  return { editor, pick };
}

type LineProps = {
  label: string;
  hint: string;
  content: Node;
  columns: Column[];
  editable: boolean;
  className: string;
  onChange: (n: Node) => void;
  onFocus: (e: Editor) => void;
  focused?: boolean; // at first
  onEnter: () => void;
};

/** A line of the letter that has its name before it: the subject, the preview text. */
export function LineEditor({
  label,
  hint,
  content,
  columns,
  editable,
  className,
  onChange,
  onFocus,
  focused,
  onEnter,
}: LineProps) {
  const { editor, pick } = useLetterEditor({
    content,
    columns,
    editable,
    kind: "line",
    label,
    hint,
    focused,
    onChange,
    onEnter,
  });
  useEffect(() => {
    if (!editor) return;
    const f = () => onFocus(editor);
    editor.on("focus", f);
    return () => void editor.off("focus", f);
  }, [editor, onFocus]);
  return (
    <div className="flex items-baseline gap-3 border-b border-hair-2 py-1.5 max-[899px]:flex-col max-[899px]:gap-0">
      <span className="w-[86px] flex-none font-sans text-xs text-ink-2" aria-hidden>
        {label}
      </span>
      <EditorContent editor={editor} className={`min-w-0 flex-1 font-letter max-[899px]:w-full ${className}`} />
      <PickList pick={pick} />
    </div>
  );
}

type BodyProps = {
  content: Node;
  columns: Column[];
  editable: boolean;
  kind?: "letter" | "piece";
  label?: string;
  onChange: (n: Node) => void;
  onReady: (e: Editor) => void;
};

export function BodyEditor({
  content,
  columns,
  editable,
  kind = "letter",
  label = "Email text",
  onChange,
  onReady,
}: BodyProps) {
  const { editor, pick } = useLetterEditor({
    content,
    columns,
    editable,
    kind,
    label,
    hint: "Write the email here. [ inserts a field.",
    onChange,
  });
  useEffect(() => {
    if (editor) onReady(editor);
  }, [editor, onReady]);
  return (
    <>
      <EditorContent editor={editor} className="letter-page font-letter text-[15px] leading-[25px]" />
      <PickList pick={pick} />
    </>
  );
}

export function PickList({ pick }: { pick: Pick }) {
  if (!pick) return null;
  return (
    <div
      className="pop fixed max-h-72 min-w-52 overflow-auto py-1.5 font-sans text-[13px] font-normal"
      style={{ left: pick.x, top: pick.y }}
      role="listbox"
      aria-label="Fields"
    >
      {pick.items.map((c, i) => (
        <button
          type="button"
          key={c.name + i}
          role="option"
          aria-selected={i === pick.at}
          ref={(el) => {
            if (i === pick.at) el?.scrollIntoView({ block: "nearest" });
          }}
          className={`flex w-full gap-6 px-3 py-1 text-left hover:bg-wash ${i === pick.at ? "bg-wash" : ""}`}
          onMouseDown={(e) => {
            e.preventDefault();
            pick.choose(c);
          }}
        >
          {c.name}
          <span className="ml-auto text-ink-2">{c.note}</span>
        </button>
      ))}
      {pick.items.length === 0 && (
        <p className="px-3 text-ink-2">No column is called so. Type [[ for a plain bracket.</p>
      )}
    </div>
  );
}
