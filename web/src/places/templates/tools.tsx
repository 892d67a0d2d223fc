// What a letter is set with: fields, weight, lists, links.
import { type Editor, useEditorState } from "@tiptap/react";
import { Popover } from "radix-ui";
import { useState } from "react";
import type { Column } from "../../api/client";

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
