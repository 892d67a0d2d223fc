import { Extension, Node as TipNode } from "@tiptap/core";
import { EditorContent, useEditor, useEditorState, type Editor } from "@tiptap/react";
import StarterKit from "@tiptap/starter-kit";
import Suggestion, { type SuggestionKeyDownProps, type SuggestionProps } from "@tiptap/suggestion";
import { Popover } from "radix-ui";
import { useEffect, useMemo, useRef, useState } from "react";
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
              .insertContentAt(range, { type: "field", attrs: { column: props.id } })
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

function useLetterEditor(content: Node, columns: Column[], editable: boolean, line: boolean, label: string, onChange: (n: Node) => void) {
  const [pick, show] = useState<Pick>(null);
  const cols = useRef(columns);
  cols.current = columns;
  const change = useRef(onChange);
  change.current = onChange;
  const picker = useMemo(() => fieldPicker(() => cols.current, show), []);
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
    content: content as never,
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
    onUpdate: ({ editor }) => change.current(editor.getJSON() as Node),
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

export function Tools({ body, target, columns }: { body: Editor; target: Editor; columns: Column[] }) {
  const on = useEditorState({
    editor: body,
    selector: ({ editor }) => ({
      bold: editor.isActive("bold"),
      italic: editor.isActive("italic"),
      bullet: editor.isActive("bulletList"),
      ordered: editor.isActive("orderedList"),
      link: editor.getAttributes("link").href as string | undefined,
    }),
  });
  const [href, setHref] = useState("https://");
  const [linking, setLinking] = useState(false);
  const [picking, setPicking] = useState(false);
  const tool = (name: string, active: boolean, run: () => void, className = "") => (
    <button
      type="button"
      aria-pressed={active}
      className={`${className} ${active ? "text-juniper underline underline-offset-4" : ""}`}
      onMouseDown={(e) => e.preventDefault()}
      onClick={run}
    >
      {name}
    </button>
  );
  return (
    <div className="flex items-center gap-4 pb-2.5 text-ink-2" role="toolbar" aria-label="Letter">
      <Popover.Root open={picking} onOpenChange={setPicking}>
        <Popover.Trigger className="link" onMouseDown={(e) => e.preventDefault()}>
          Field<kbd className="key">[</kbd>
        </Popover.Trigger>
        <Popover.Portal>
          <Popover.Content
            className="pop max-h-80 overflow-auto py-1.5"
            sideOffset={6}
            align="start"
            onCloseAutoFocus={(e) => e.preventDefault()}
          >
            {columns.map((c) => (
              <button
                type="button"
                key={c.id}
                className="flex w-full gap-6 px-3 py-1 text-left hover:bg-wash"
                onClick={() => {
                  setPicking(false);
                  target
                    .chain()
                    .focus()
                    .insertContent({ type: "field", attrs: { column: c.id } })
                    .run();
                }}
              >
                {c.name}
                <span className="ml-auto text-ink-2">{c.type}</span>
              </button>
            ))}
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
      {tool("Bold", on.bold, () => body.chain().focus().toggleBold().run(), "font-bold")}
      {tool("Italic", on.italic, () => body.chain().focus().toggleItalic().run(), "italic")}
      {tool("List", on.bullet, () => body.chain().focus().toggleBulletList().run())}
      {tool("Numbered", on.ordered, () => body.chain().focus().toggleOrderedList().run())}
      <Popover.Root
        open={linking}
        onOpenChange={(o) => {
          setLinking(o);
          if (o) setHref(on.link ?? "https://");
        }}
      >
        <Popover.Trigger className={on.link ? "text-juniper underline underline-offset-4" : ""}>Link</Popover.Trigger>
        <Popover.Portal>
          <Popover.Content className="pop w-80 p-3.5" sideOffset={6} align="start" onCloseAutoFocus={(e) => e.preventDefault()}>
            <form
              onSubmit={(e) => {
                e.preventDefault();
                e.stopPropagation();
                setLinking(false);
                body.chain().focus().extendMarkRange("link").setLink({ href: href.trim() }).run();
              }}
              className="flex flex-col gap-2"
            >
              <label className="flex flex-col gap-1">
                The selected words lead to
                <input className="field" value={href} onChange={(e) => setHref(e.target.value)} />
              </label>
              <span className="flex gap-4">
                <button type="submit" className="link">
                  Link them
                </button>
                {on.link && (
                  <button
                    type="button"
                    className="link"
                    onClick={() => {
                      setLinking(false);
                      body.chain().focus().extendMarkRange("link").unsetLink().run();
                    }}
                  >
                    No link
                  </button>
                )}
              </span>
            </form>
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
    </div>
  );
}
