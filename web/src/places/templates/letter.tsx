import { Extension, Node as TipNode } from "@tiptap/core";
import { EditorContent, useEditor, type Editor } from "@tiptap/react";
import StarterKit from "@tiptap/starter-kit";
import Suggestion, { type SuggestionKeyDownProps, type SuggestionProps } from "@tiptap/suggestion";
import { useEffect, useState } from "react";
import type { Column, Node } from "../../api/client";
import { FieldNode } from "./field";

const nodes = ["doc", "paragraph", "heading", "bulletList", "orderedList", "listItem", "hardBreak", "text", "field"];

// Tells whether the editor can show a letter and give it back unchanged. Those
// that came with a bundle may have parts, tables, buttons, pictures or colours.
export function canEdit(n: Node): boolean {
  const plain = (n.marks ?? []).every(
    (m) => m.type === "bold" || m.type === "italic" || (m.type === "link" && typeof m.attrs?.["href"] === "string"),
  );
  return nodes.includes(n.type) && plain && (n.content ?? []).every(canEdit);
}

type Pick = { items: Column[]; at: number; x: number; y: number; choose: (c: Column) => void } | null;

// Typing [ opens the list of columns; what follows narrows it.
function fieldPicker(columns: () => Column[], show: (p: Pick | ((old: Pick) => Pick)) => void) {
  return Extension.create({
    name: "fieldPicker",
    addProseMirrorPlugins() {
      let now: Pick = null;
      const put = (p: Pick) => {
        now = p;
        show(p);
      };
      const place = (p: SuggestionProps<Column>): Pick => {
        const r = p.clientRect?.();
        return { items: p.items, at: 0, x: r?.left ?? 0, y: (r?.bottom ?? 0) + 4, choose: (c) => p.command(c) };
      };
      return [
        Suggestion<Column>({
          editor: this.editor,
          char: "[",
          allowSpaces: true,
          allowedPrefixes: null,
          items: ({ query }) =>
            columns()
              .filter((c) => c.name.toLowerCase().includes(query.trim().toLowerCase()))
              .slice(0, 9),
          command: ({ editor, range, props }) =>
            editor
              .chain()
              .focus()
              .insertContentAt(range, { type: "field", attrs: { column: (props as Column).id } })
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
                now.choose(now.items[now.at] as Column);
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

const OneLine = TipNode.create({ name: "doc", topNode: true, content: "paragraph" });

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

function useLetterEditor(content: Node, columns: Column[], editable: boolean, line: boolean, label: string, onChange: (n: Node) => void) {
  const [pick, show] = useState<Pick>(null);
  // The editor is made once; what it reaches for is as it is by then.
  const [latest] = useState(() => new Latest(columns, onChange));
  useEffect(() => latest.set(columns, onChange), [latest, columns, onChange]);
  const [picker] = useState(() => fieldPicker(() => latest.columns, show));
  const editor = useEditor({
    extensions: [
      StarterKit.configure({
        document: line ? false : undefined,
        blockquote: false,
        code: false,
        codeBlock: false,
        horizontalRule: false,
        strike: false,
        underline: false,
        trailingNode: false,
        ...(line
          ? {
              bold: false as const,
              italic: false as const,
              link: false as const,
              heading: false as const,
              bulletList: false as const,
              orderedList: false as const,
              listItem: false as const,
              listKeymap: false as const,
              hardBreak: false as const,
            }
          : {
              link: { openOnClick: false, autolink: false, protocols: ["http", "https", "mailto", "tel"] },
              heading: { levels: [1, 2, 3] as (1 | 2 | 3)[] },
            }),
      }),
      ...(line ? [OneLine] : []),
      FieldNode,
      picker,
    ],
    content: content,
    editable,
    injectCSS: false,
    editorProps: {
      attributes: { "aria-label": label, role: "textbox", "aria-multiline": String(!line) },
      handlePaste: line
        ? (view, event) => {
            const text = event.clipboardData?.getData("text/plain").replace(/\s*[\r\n]+\s*/g, " ") ?? "";
            view.dispatch(view.state.tr.insertText(text));
            return true;
          }
        : undefined,
      handleKeyDown: line ? (_v, e) => e.key === "Enter" && !pick : undefined,
    },
    onUpdate: ({ editor }) => latest.onChange(editor.getJSON() as Node),
  });
  return { editor, pick };
}

export function SubjectEditor({
  content,
  columns,
  editable,
  onChange,
  onFocus,
}: {
  content: Node;
  columns: Column[];
  editable: boolean;
  onChange: (n: Node) => void;
  onFocus: (e: Editor) => void;
}) {
  const { editor, pick } = useLetterEditor(content, columns, editable, true, "Subject", onChange);
  useEffect(() => {
    if (!editor) return;
    const f = () => onFocus(editor);
    editor.on("focus", f);
    return () => void editor.off("focus", f);
  }, [editor, onFocus]);
  return (
    <>
      <EditorContent editor={editor} className="mb-4 border-b border-hair-2 pb-3 font-letter text-[19px] leading-[27px] font-semibold" />
      <PickList pick={pick} />
    </>
  );
}

export function BodyEditor({
  content,
  columns,
  editable,
  onChange,
  onReady,
}: {
  content: Node;
  columns: Column[];
  editable: boolean;
  onChange: (n: Node) => void;
  onReady: (e: Editor) => void;
}) {
  const { editor, pick } = useLetterEditor(content, columns, editable, false, "Letter", onChange);
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

function PickList({ pick }: { pick: Pick }) {
  if (!pick) return null;
  return (
    <div
      className="pop fixed max-h-72 min-w-52 overflow-auto py-1.5 font-sans text-[13px] font-normal"
      style={{ left: pick.x, top: pick.y }}
      role="listbox"
      aria-label="Columns"
    >
      {pick.items.map((c, i) => (
        <button
          type="button"
          key={c.id}
          role="option"
          aria-selected={i === pick.at}
          className={`flex w-full gap-6 px-3 py-1 text-left hover:bg-wash ${i === pick.at ? "bg-wash" : ""}`}
          onMouseDown={(e) => {
            e.preventDefault();
            pick.choose(c);
          }}
        >
          {c.name}
          <span className="ml-auto text-ink-2">{c.type}</span>
        </button>
      ))}
      {pick.items.length === 0 && <p className="px-3 text-ink-2">No column is called so. Write [[ for a plain bracket.</p>}
    </div>
  );
}
