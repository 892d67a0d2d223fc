// A line of text with fields in it: a link's target, an image's other words, an
// attachment's name.
import { EditorContent } from "@tiptap/react";
import { useId } from "react";
import type { Column, Node } from "../../api/client";
import type { FieldAttrs } from "./field";
import { PickList, useLetterEditor } from "./letter";

/** Text, or texts and fields in turn. */
export type Line = string | (string | FieldAttrs)[];

/** A line as the document that the editor works on. */
export function docOf(line: Line | null | undefined): Node {
  const parts = typeof line === "string" ? [line] : (line ?? []);
  const content = parts
    .filter((p) => p !== "")
    .map((p): Node => (typeof p === "string" ? { type: "text", text: p } : { type: "field", attrs: p }));
  return { type: "doc", content: [{ type: "paragraph", ...(content.length > 0 ? { content } : {}) }] };
}

/** The document of one line as a line. */
export function lineOf(doc: Node): Line {
  const parts = (doc.content?.[0]?.content ?? []).map((n) =>
    n.type === "field" ? (n.attrs as FieldAttrs) : (n.text ?? ""),
  );
  return parts.every((p) => typeof p === "string") ? parts.join("") : parts;
}

/** A line in words, its fields by their columns' names. */
export function lineWords(line: Line | null | undefined, columns: Column[]): string {
  if (typeof line === "string" || !line) return line ?? "";
  return line
    .map((p) =>
      typeof p === "string"
        ? p
        : `[${columns.find((c) => c.id === p.column)?.name ?? (p.of === "opt-out" ? "opt-out link" : (p.of ?? "?"))}]`,
    )
    .join("");
}

export function LineField({
  label,
  value,
  columns,
  onChange,
}: {
  label: string;
  value: Line;
  columns: Column[];
  onChange: (l: Line) => void;
}) {
  const id = useId();
  const { editor, pick } = useLetterEditor({
    content: docOf(value),
    columns,
    editable: true,
    kind: "line",
    label,
    onChange: (n) => onChange(lineOf(n)),
  });
  return (
    <div className="flex flex-col gap-1">
      <span id={id}>
        {label}
        <kbd className="key" aria-hidden>
          [
        </kbd>
      </span>
      <EditorContent editor={editor} className="field min-h-[30px] w-full [&_.ProseMirror]:min-h-[20px]" />
      <PickList pick={pick} />
    </div>
  );
}
