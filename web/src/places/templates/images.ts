// Pictures on their way into a letter: made small enough, kept on the server,
// put where they were dropped.
import type { Editor } from "@tiptap/core";
import { NodeSelection } from "@tiptap/pm/state";
import { toast } from "sonner";
import { type Schemas, upload, words } from "../../api/client";

const pageWidth = 600; // pixels, as wide as a letter
const sharpWidth = 2 * pageWidth; // on a screen of twice as many
const small = 300_000; // bytes; above that a picture is worth writing anew

/** A picture as a mail reader shows it: not wider than need be, as PNG or JPEG, without what a
 * camera notes beside it. An animation stays as it is. */
async function fitted(file: File): Promise<File> {
  if (file.type === "image/gif") return file;
  const bitmap = await createImageBitmap(file).catch(() => undefined);
  if (!bitmap) return file; // the server says what is wrong with it
  const png = file.type === "image/png";
  if (png && bitmap.width <= sharpWidth && file.size <= small) return file;
  const scale = Math.min(1, sharpWidth / bitmap.width);
  const canvas = document.createElement("canvas");
  canvas.width = Math.max(1, Math.round(bitmap.width * scale));
  canvas.height = Math.max(1, Math.round(bitmap.height * scale));
  canvas.getContext("2d")?.drawImage(bitmap, 0, 0, canvas.width, canvas.height);
  const write = (type: string) => new Promise<Blob | null>((done) => canvas.toBlob(done, type, 0.86));
  let blob = await write(png ? "image/png" : "image/jpeg");
  if (blob && png && blob.size > small) blob = (await write("image/jpeg")) ?? blob;
  if (!blob) return file;
  const name = file.name.replace(/\.[^.]*$/, "") + (blob.type === "image/png" ? ".png" : ".jpg");
  return new File([blob], name, { type: blob.type });
}

/** Puts a block where the cursor is; behind a block that is picked, not in its place. */
export function insertBlock(editor: Editor, content: object): void {
  const { selection } = editor.state;
  const chain = editor.chain().focus();
  if (selection instanceof NodeSelection && selection.node.isBlock) chain.insertContentAt(selection.to, content).run();
  else chain.insertContent(content).run();
}

export type KeptImage = { file: string; type: string; width?: number };

export async function keepImage(file: File): Promise<KeptImage> {
  const kept = await upload<Schemas["KeptFile"]>("/files", { file: await fitted(file), image: "true" });
  return { file: kept.file, type: kept.type, ...(kept.width ? { width: Math.min(kept.width, pageWidth) } : {}) };
}

/** Keeps pictures and puts them into the letter; what is refused is told, and nothing typed is lost. */
export async function putImages(editor: Editor | null, files: File[], at?: number): Promise<void> {
  for (const f of files) {
    if (!f.type.startsWith("image/")) {
      toast.error(`“${f.name}” is no image. Attach it below the text.`);
      continue;
    }
    try {
      const image = { type: "image", attrs: { ...(await keepImage(f)), alt: "" } };
      if (editor && at === undefined) insertBlock(editor, image);
      else if (at !== undefined) editor?.chain().insertContentAt(at, image).run();
    } catch (e) {
      toast.error(words(e), { duration: 12000 });
    }
  }
}
