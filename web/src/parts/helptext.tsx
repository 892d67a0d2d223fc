// The text of the help, as it stands in docs/help.
import { useEffect, useMemo, useRef, useState } from "react";
import Markdown from "react-markdown";
import remarkGfm from "remark-gfm";
import { type HelpPage, helpPages } from "./helppages";
import { useNarrow } from "./narrow";
import { Scroll } from "./scroll";

const texts = import.meta.glob<string>("../../../docs/help/*.md", { query: "?raw", import: "default", eager: true });
const pictures = import.meta.glob<string>("../../../docs/help/pictures/*.png", { query: "?url", import: "default", eager: true });
const textOf = (p: HelpPage) => texts[`../../../docs/help/${p}.md`] ?? "";

type Section = { page: HelpPage; title: string; anchor: string; text: string };
const anchorOf = (title: string) =>
  title
    .toLowerCase()
    .replace(/[^\p{L}\p{N}\s-]/gu, "")
    .trim()
    .replace(/\s+/g, "-");
const titleOf = (p: HelpPage) => /^# (.+)$/m.exec(textOf(p))?.[1] ?? p;
// Markdown as plain words.
const plain = (t: string) =>
  t
    .replace(/!\[[^\]]*\]\([^)]*\)/g, "")
    .replace(/\[([^\]]*)\]\([^)]*\)/g, "$1")
    .replace(/^\|?[-| ]+\|?$/gm, "")
    .replace(/[*`|#]/g, " ")
    .replace(/\s+/g, " ")
    .trim();
const sections: Section[] = helpPages.flatMap((page) =>
  textOf(page)
    .split(/^#+ /m)
    .filter((x) => x.trim())
    .map((part) => {
      const [title = "", ...rest] = part.split("\n");
      return { page, title, anchor: anchorOf(title), text: plain(rest.join("\n")) };
    }),
);

/** The sections that hold all words, those that hold them in their titles first. */
function found(words: string): Section[] {
  const all = words.toLowerCase().split(/\s+/).filter(Boolean);
  const holds = (text: string) => all.every((w) => text.toLowerCase().includes(w));
  const hits = sections.filter((s) => holds(`${s.title} ${s.text}`));
  return [...hits.filter((s) => holds(s.title)), ...hits.filter((s) => !holds(s.title))].slice(0, 20);
}

// What stands around the first of the words.
function around(s: Section, words: string): string {
  const at = Math.max(0, s.text.toLowerCase().indexOf(words.toLowerCase().trim().split(/\s+/)[0] ?? ""));
  const from = at < 60 ? 0 : s.text.indexOf(" ", at - 50) + 1;
  return `${from > 0 ? "… " : ""}${s.text.slice(from, from + 140)}${s.text.length > from + 140 ? " …" : ""}`;
}

export default function Pages({ first }: { first: HelpPage }) {
  const [at, setAt] = useState<{ page: HelpPage; anchor?: string }>({ page: first });
  const [find, setFind] = useState("");
  const box = useRef<HTMLDivElement>(null);
  const hits = useMemo(() => (find.trim() ? found(find) : undefined), [find]);
  const go = (page: HelpPage, anchor?: string) => {
    setFind("");
    setAt({ page, anchor });
  };
  const search = useRef<HTMLInputElement>(null);
  const narrow = useNarrow();
  // On a phone its keyboard would cover what one came to read.
  useEffect(() => {
    if (!narrow) search.current?.focus();
  }, [narrow]);
  useEffect(() => {
    const to = at.anchor ? box.current?.querySelector(`[id="${at.anchor}"]`) : box.current;
    to?.scrollIntoView({ block: "start" });
  }, [at]);
  return (
    <div className="flex min-h-0 flex-1 border-t border-hair max-[899px]:flex-col">
      <div className="flex w-[200px] flex-none flex-col gap-3 border-r border-hair px-6 py-3 max-[899px]:w-full max-[899px]:border-r-0 max-[899px]:pb-0">
        <input
          ref={search}
          type="search"
          className="field w-full"
          aria-label="Search the help"
          placeholder="Search the help"
          value={find}
          onChange={(e) => setFind(e.target.value)}
          onKeyDown={(e) => e.key === "Enter" && hits?.[0] && go(hits[0].page, hits[0].anchor)}
        />
        <nav aria-label="Pages of help" className="flex flex-col gap-1 max-[899px]:flex-row max-[899px]:flex-wrap max-[899px]:gap-x-3">
          {helpPages.map((p) => (
            <button
              key={p}
              type="button"
              aria-current={!hits && p === at.page ? "page" : undefined}
              className={`text-left ${!hits && p === at.page ? "font-[650]" : "text-ink-2 hover:text-ink"}`}
              onClick={() => go(p)}
            >
              {titleOf(p)}
            </button>
          ))}
        </nav>
      </div>
      <Scroll label="The page of help" className="min-h-0 min-w-0 flex-1 px-6 py-3">
        <div ref={box} className="help max-w-[60ch]">
          {hits ? (
            <>
              <p role="status" className="text-ink-2!">
                {hits.length === 0 ? `Nothing says “${find.trim()}”.` : `${hits.length} found`}
              </p>
              {hits.map((s) => (
                <p key={s.page + s.anchor}>
                  <button type="button" className="link" onClick={() => go(s.page, s.anchor)}>
                    {titleOf(s.page) === s.title ? s.title : `${titleOf(s.page)}, ${s.title}`}
                  </button>
                  <br />
                  {around(s, find)}
                </p>
              ))}
            </>
          ) : (
            <Markdown
              key={at.page}
              remarkPlugins={[remarkGfm]}
              components={{
                h1: ({ children }) => <h2 className="page">{children}</h2>,
                h2: ({ children }) => <h3 id={typeof children === "string" ? anchorOf(children) : undefined}>{children}</h3>,
                a: ({ href = "", children }) => (
                  <button
                    type="button"
                    className="link"
                    onClick={() => {
                      const [page = "", anchor] = href.split("#");
                      go(helpPages.find((p) => `${p}.md` === page) ?? at.page, anchor);
                    }}
                  >
                    {children}
                  </button>
                ),
                img: ({ src, alt }) => <img src={pictures[`../../../docs/help/${src}`]} alt={alt} loading="lazy" />,
              }}
            >
              {textOf(at.page)}
            </Markdown>
          )}
        </div>
      </Scroll>
    </div>
  );
}
