// A letter as it was rendered, with the pictures that it carries.
import { useQueries } from "@tanstack/react-query";
import { download } from "../api/client";
import { keys } from "../api/keys";

// What the data of each kind of picture begins with, in base64.
const kinds = { iVBOR: "image/png", "/9j/": "image/jpeg", R0lGOD: "image/gif" };

// In place of a picture that has not signed in yet.
const nothing = "data:image/gif;base64,R0lGODlhAQABAAAAACwAAAAAAQABAAACAkQBADs=";

// A picture that emails carry, as an address that a sandboxed frame may show. It never changes.
async function dataURL(file: string): Promise<string> {
  const data = await download(`/files/${file}`);
  const url = await new Promise<string>((done, fail) => {
    const r = new FileReader();
    r.onload = () => done(r.result as string);
    r.onerror = () => fail(r.error ?? new Error("the image cannot be read"));
    r.readAsDataURL(data);
  });
  const content = url.slice(url.indexOf(",") + 1);
  const type = Object.entries(kinds).find(([head]) => content.startsWith(head))?.[1] ?? "image/png";
  return `data:${type};base64,${content}`;
}

const asked = (file: string) => ({
  queryKey: keys.file(file),
  queryFn: () => dataURL(file),
  staleTime: Infinity,
  enabled: file !== "",
});

/** A picture that letters carry, once it has come. */
export function usePicture(file: string): string | undefined {
  return useQueries({ queries: [asked(file)] })[0].data;
}

type Props = { html: string; title: string; height?: number; dark?: boolean; width?: number };

/** A letter in a frame without scripts, forms or remote parts: the page's own policy holds in
 * it. Dark shows it as a mail reader does that is set to dark colours. */
export function LetterFrame({ html, title, height = 260, dark, width }: Props) {
  const files = [...new Set([...html.matchAll(/cid:([0-9a-f]{64})@image\.nivot/g)].map((m) => m[1] ?? ""))];
  const come = useQueries({ queries: files.map(asked) });
  let shown = html;
  files.forEach((f, i) => {
    shown = shown.replaceAll(`cid:${f}@image.nivot`, come[i]?.data ?? nothing);
  });
  // A frame follows the machine's colours, not the choice here: the rules for dark are made to hold, or not.
  shown = shown.replace("@media (prefers-color-scheme:dark)", dark ? "@media all" : "@media not all");
  return (
    <iframe
      title={title}
      sandbox=""
      srcDoc={shown}
      className={`block border border-hair-2 ${dark ? "bg-[#1b1d21]" : "bg-white"}`}
      style={{ height, width: width ?? "100%", maxWidth: "100%" }}
    />
  );
}
