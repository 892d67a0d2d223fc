// Which pages of help there are, in their order, and which is a place's.
export const helpPages = [
  "today",
  "sheets",
  "sheet",
  "import",
  "columns",
  "rule",
  "template",
  "held",
  "send",
  "log",
  "setup",
  "words",
  "keyboard",
] as const;
export type HelpPage = (typeof helpPages)[number];

/** The page of help that is about an address of the application. */
export function helpPageOf(path: string, search: { slip?: string }): HelpPage {
  const [place, sheet, part] = path.split("/").filter(Boolean);
  switch (place) {
    case "sheets":
      if (!sheet) return "sheets";
      if (sheet === "new" || part === "bring") return "import";
      if (part === "rules") return "rule";
      if (part === "held" || part === "send") return part;
      return search.slip === "columns" ? "columns" : "sheet";
    case "templates":
      return "template";
    case "log":
    case "setup":
      return place;
  }
  return "today";
}
