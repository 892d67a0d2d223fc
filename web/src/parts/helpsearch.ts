// What the pages of help say, section by section, and which of them hold some words.
import type { HelpPage } from "./helppages";

/** A part of a page under a heading: its text without marks. */
export type Section = { page: HelpPage; title: string; anchor: string; text: string };

/** What a heading is linked by, as in the documentation's own links. */
export const anchorOf = (title: string): string =>
  title
    .toLowerCase()
    .replace(/[^\p{L}\p{N}\s-]/gu, "")
    .trim()
    .replace(/\s+/g, "-");

/** The title of a page, where it has one. */
export const titleIn = (text: string): string | undefined => /^# (.+)$/m.exec(text)?.[1];

// Markdown as plain words.
const plain = (t: string) =>
  t
    .replace(/!\[[^\]]*\]\([^)]*\)/g, "")
    .replace(/\[([^\]]*)\]\([^)]*\)/g, "$1")
    .replace(/^\|?[-| ]+\|?$/gm, "")
    .replace(/[*`|#]/g, " ")
    .replace(/\s+/g, " ")
    .trim();

export const sectionsOf = (page: HelpPage, text: string): Section[] =>
  text
    .split(/^#+ /m)
    .filter((x) => x.trim())
    .map((part) => {
      const [title = "", ...rest] = part.split("\n");
      return { page, title, anchor: anchorOf(title), text: plain(rest.join("\n")) };
    });

/** The sections that hold all words, those that hold them in their titles first. */
export function found(sections: Section[], words: string): Section[] {
  const all = words.toLowerCase().split(/\s+/).filter(Boolean);
  const holds = (text: string) => all.every((w) => text.toLowerCase().includes(w));
  const hits = sections.filter((s) => holds(`${s.title} ${s.text}`));
  return [...hits.filter((s) => holds(s.title)), ...hits.filter((s) => !holds(s.title))].slice(0, 20);
}

/** What stands around the first of the words. */
export function around(s: Section, words: string): string {
  const at = Math.max(0, s.text.toLowerCase().indexOf(words.toLowerCase().trim().split(/\s+/)[0] ?? ""));
  const from = at < 60 ? 0 : s.text.indexOf(" ", at - 50) + 1;
  return `${from > 0 ? "… " : ""}${s.text.slice(from, from + 140)}${s.text.length > from + 140 ? " …" : ""}`;
}
