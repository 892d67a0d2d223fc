// What a letter is set with: fields, the kind of a paragraph, weight and colour, lists,
// links, and the blocks that can be put in.
import { type Editor, useEditorState } from "@tiptap/react";
import {
  addColumnAfter,
  addRowAfter,
  deleteColumn,
  deleteRow,
  deleteTable,
  isInTable,
  toggleHeaderRow,
} from "@tiptap/pm/tables";
import type { Command } from "@tiptap/pm/state";
import { Popover } from "radix-ui";
import { type ReactNode, useContext, useRef, useState } from "react";
import type { Column } from "../../api/client";
import { blankLeaf } from "../sheets/condition";
import { blanks } from "./blocks";
import { Fields } from "./field";
import { insertBlock, putImages } from "./images";
import { pickable } from "./letter";
import { type Line, LineField, lineWords } from "./line";
import { palette } from "./schema";

type Props = { body: Editor; target: Editor; columns: Column[]; kind?: "letter" | "piece" };

// A list that opens from a word of the toolbar.
function Menu({
  name,
  children,
  hint,
  active,
}: {
  name: string;
  children: (close: () => void) => ReactNode;
  hint?: string;
  active?: boolean;
}) {
  const [open, setOpen] = useState(false);
  const trigger = useRef<HTMLButtonElement>(null);
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger
        ref={trigger}
        className={`link ${active ? "underline underline-offset-4" : ""}`}
        onMouseDown={(e) => e.preventDefault()}
      >
        {name}
        {hint && (
          <kbd className="key" aria-hidden>
            {hint}
          </kbd>
        )}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          className="pop max-h-80 min-w-44 overflow-auto py-1.5 text-[13px]"
          aria-label={name}
          sideOffset={6}
          align="start"
          onCloseAutoFocus={(e) => e.preventDefault()} // what is chosen puts the focus into the text
          onEscapeKeyDown={() => trigger.current?.focus()}
        >
          {children(() => setOpen(false))}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

function Item({
  onPick,
  children,
  note,
  pressed,
}: {
  onPick: () => void;
  children: ReactNode;
  note?: string;
  pressed?: boolean;
}) {
  return (
    <button
      type="button"
      aria-pressed={pressed}
      className={`flex w-full items-baseline gap-6 px-3 py-1 text-left hover:bg-wash ${pressed ? "font-semibold" : ""}`}
      onClick={onPick}
    >
      {children}
      {note && <span className="ml-auto text-ink-2">{note}</span>}
    </button>
  );
}

export function Tools({ body, target, columns, kind = "letter" }: Props) {
  const on = useEditorState({
    editor: body,
    selector: ({ editor }) => ({
      bold: editor.isActive("bold"),
      italic: editor.isActive("italic"),
      underline: editor.isActive("underline"),
      colour: editor.getAttributes("colour")["colour"] as string | undefined,
      level: editor.isActive("heading") ? (editor.getAttributes("heading")["level"] as number) : 0,
      align:
        ((editor.getAttributes("paragraph")["align"] ?? editor.getAttributes("heading")["align"]) as string | null) ??
        "",
      bullet: editor.isActive("bulletList"),
      ordered: editor.isActive("orderedList"),
      quote: editor.isActive("quote"),
      part: editor.isActive("part"),
      table: isInTable(editor.state),
      link: editor.getAttributes("link")["href"] as Line | undefined,
      undo: editor.can().undo(),
      redo: editor.can().redo(),
    }),
  });
  const tool = (name: string, active: boolean, run: () => void, className = "", off = false) => (
    <button
      type="button"
      aria-pressed={active}
      disabled={off}
      className={`${className} ${active ? "text-juniper underline underline-offset-4" : ""} ${off ? "opacity-40" : ""}`}
      onMouseDown={(e) => e.preventDefault()}
      onClick={run}
    >
      {name}
    </button>
  );
  const chain = () => body.chain().focus();
  const kinds = ["Paragraph", "Heading", "Smaller heading", "Smallest heading"];
  return (
    <div
      className="flex flex-wrap items-baseline gap-x-4 gap-y-1 pb-2.5 text-ink-2 max-[899px]:pt-2 max-[899px]:flex-nowrap max-[899px]:overflow-x-auto max-[899px]:whitespace-nowrap"
      role="toolbar"
      aria-label={kind === "piece" ? "Piece of text" : "Email text"}
    >
      <Menu name="Field" hint="[">
        {(close) =>
          pickable(kind === "piece" ? [] : columns).map((c) => (
            <Item
              key={c.name + c.note}
              note={c.note}
              onPick={() => {
                close();
                target.chain().focus().insertContent({ type: "field", attrs: c.attrs }).run();
              }}
            >
              {c.name}
            </Item>
          ))
        }
      </Menu>
      <Menu name={kinds[on.level] ?? ""}>
        {(close) =>
          kinds.map((k, i) => (
            <Item
              key={k}
              pressed={on.level === i}
              onPick={() => {
                close();
                if (i === 0) chain().setParagraph().run();
                else
                  chain()
                    .setHeading({ level: i as 1 | 2 | 3 })
                    .run();
              }}
            >
              {k}
            </Item>
          ))
        }
      </Menu>
      {tool("Bold", on.bold, () => chain().toggleBold().run(), "font-bold")}
      {tool("Italic", on.italic, () => chain().toggleItalic().run(), "italic")}
      {tool("Underline", on.underline, () => chain().toggleUnderline().run(), "underline")}
      <Menu name="Colour" active={on.colour !== undefined}>
        {(close) => (
          <>
            {palette.map((p) => (
              <Item
                key={p.name}
                pressed={on.colour === p.colour}
                onPick={() => {
                  close();
                  chain().setMark("colour", { colour: p.colour }).run();
                }}
              >
                <span style={{ color: p.colour }}>{p.name}</span>
              </Item>
            ))}
            <Item
              onPick={() => {
                close();
                chain().unsetMark("colour").run();
              }}
            >
              as the other words
            </Item>
          </>
        )}
      </Menu>
      <Menu name="Align" active={on.align !== ""}>
        {(close) =>
          (
            [
              ["", "where lines begin"],
              ["center", "centred"],
              ["right", "on the right"],
            ] as const
          ).map(([id, words]) => (
            <Item
              key={id}
              pressed={on.align === id}
              onPick={() => {
                close();
                chain()
                  .updateAttributes("paragraph", { align: id || null })
                  .updateAttributes("heading", { align: id || null })
                  .run();
              }}
            >
              {words}
            </Item>
          ))
        }
      </Menu>
      {tool("List", on.bullet, () => chain().toggleBulletList().run())}
      {tool("Numbered", on.ordered, () => chain().toggleOrderedList().run())}
      {tool("Quote", on.quote, () => (on.quote ? chain().lift("quote").run() : chain().wrapIn("quote").run()))}
      <LinkTool body={body} columns={columns} href={on.link} />
      <Insert body={body} columns={columns} kind={kind} inPart={on.part} inTable={on.table} />
      {on.table && <TableTools body={body} />}
      <span className="ml-auto flex gap-4">
        {tool("Undo", false, () => chain().undo().run(), "", !on.undo)}
        {tool("Redo", false, () => chain().redo().run(), "", !on.redo)}
      </span>
    </div>
  );
}

function LinkTool({ body, columns, href }: { body: Editor; columns: Column[]; href?: Line }) {
  const [open, setOpen] = useState(false);
  const [to, setTo] = useState<Line>("https://");
  const none = to === "" || to === "https://";
  const trigger = useRef<HTMLButtonElement>(null);
  const close = () => setOpen(false);
  const set = (l: Line) => {
    close();
    const trimmed = typeof l === "string" ? l.trim() : l;
    const chain = body.chain().focus().extendMarkRange("link");
    if (body.state.selection.empty && !body.isActive("link"))
      chain
        .insertContent({
          type: "text",
          text: lineWords(trimmed, columns),
          marks: [{ type: "link", attrs: { href: trimmed } }],
        })
        .run();
    else chain.setMark("link", { href: trimmed }).run();
  };
  return (
    <Popover.Root
      open={open}
      onOpenChange={(o) => {
        setOpen(o);
        if (o) setTo(href ?? "https://");
      }}
    >
      <Popover.Trigger
        ref={trigger}
        className={href ? "text-juniper underline underline-offset-4" : ""}
        onMouseDown={(e) => e.preventDefault()}
      >
        Link
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          className="pop w-96 p-3.5 text-[13px]"
          aria-label="Link"
          sideOffset={6}
          align="start"
          onCloseAutoFocus={(e) => e.preventDefault()} // what is chosen puts the focus into the text
          onEscapeKeyDown={() => trigger.current?.focus()}
        >
          <form
            onSubmit={(e) => {
              e.preventDefault();
              e.stopPropagation();
              if (!none) set(to);
            }}
            className="flex flex-col gap-2.5"
          >
            <LineField label="The words lead to" value={to} columns={columns} onChange={setTo} />
            <span className="flex flex-wrap gap-4">
              <button type="submit" className="link" disabled={none}>
                Link them
              </button>
              <button type="button" className="link" onClick={() => set([{ of: "opt-out" }])}>
                Unsubscribe link
              </button>
              {href && (
                <button
                  type="button"
                  className="link"
                  onClick={() => {
                    close();
                    body.chain().focus().extendMarkRange("link").unsetMark("link").run();
                  }}
                >
                  Remove the link
                </button>
              )}
            </span>
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

type InsertProps = { body: Editor; columns: Column[]; kind: "letter" | "piece"; inPart: boolean; inTable: boolean };

function Insert({ body, columns, kind, inPart, inTable }: InsertProps) {
  const { pieces } = useContext(Fields);
  const file = useRef<HTMLInputElement>(null);
  // Behind a block at the letter's end stands a line to go on in.
  const put = (content: object) => {
    insertBlock(body, content);
    const { doc } = body.state;
    if (doc.lastChild && !doc.lastChild.isTextblock)
      body.commands.insertContentAt(doc.content.size, { type: "paragraph" }, { updateSelection: false });
  };
  // One begins to write in a table's first cell.
  const putTable = (table: object) => {
    const at = body.state.selection.from;
    put(table);
    let cell: number | undefined;
    body.state.doc.descendants((n, pos) => {
      if (cell === undefined && n.type.name === "tableHeader" && pos >= at - 3) cell = pos;
      return cell === undefined;
    });
    if (cell !== undefined) body.commands.setTextSelection(cell + 2);
  };
  const condition = () => {
    const c = columns.find((x) => x.type === "choice") ?? columns[0];
    return c && blankLeaf(c);
  };
  const cell = (type: string) => ({ type, content: [{ type: "paragraph" }] });
  const row = (type: string) => ({ type: "tableRow", content: [cell(type), cell(type), cell(type)] });
  return (
    <>
      <input
        ref={file}
        type="file"
        className="sr-only"
        tabIndex={-1}
        aria-label="Choose an image"
        accept="image/*"
        multiple
        onChange={(e) => {
          void putImages(body, [...(e.target.files ?? [])]);
          e.target.value = "";
        }}
      />
      <Menu name="Insert">
        {(close) => {
          const item = (name: string, run: () => void, note?: string) => (
            <Item
              key={name}
              note={note}
              onPick={() => {
                close();
                run();
              }}
            >
              {name}
            </Item>
          );
          if (inTable) return <p className="px-3 py-1 text-ink-2">Into a table’s cell go words and fields.</p>;
          return (
            <>
              {item("Image", () => file.current?.click(), "or drop it")}
              {item("Button", () => put(blanks.button("Open")))}
              {item("Table", () =>
                putTable({ type: "table", content: [row("tableHeader"), row("tableCell"), row("tableCell")] }),
              )}
              {item("Divider", () => put({ type: "divider" }))}
              {kind === "letter" && (
                <>
                  {item("The row’s values", () => put(blanks.rowTable(columns)), "a table")}
                  {item("The rows of the round-up", () => put(blanks.roundUpTable(columns)), "a table")}
                  {!inPart &&
                    item("A part shown only if …", () => {
                      const c = condition();
                      if (c) put(blanks.part(c));
                    })}
                  {item("Signature", () => put({ type: "signature" }), "the sender’s")}
                  {pieces.map((p) =>
                    item(p.name, () => put({ type: "piece", attrs: { piece: p.id } }), "piece of text"),
                  )}
                </>
              )}
            </>
          );
        }}
      </Menu>
    </>
  );
}

function TableTools({ body }: { body: Editor }) {
  const run = (c: Command) => () => {
    body.commands.focus();
    c(body.state, body.view.dispatch);
  };
  return (
    <Menu name="Table">
      {(close) =>
        (
          [
            ["Add a row below", addRowAfter],
            ["Add a column after", addColumnAfter],
            ["Headings in the first row", toggleHeaderRow],
            ["Delete the row", deleteRow],
            ["Delete the column", deleteColumn],
            ["Delete the table", deleteTable],
          ] as const
        ).map(([name, c]) => (
          <Item
            key={name}
            onPick={() => {
              close();
              run(c)();
            }}
          >
            {name}
          </Item>
        ))
      }
    </Menu>
  );
}
