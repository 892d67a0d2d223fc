// The text of the help, as it stands in docs/help.
import { useEffect, useMemo, useRef, useState } from "react";
import Markdown from "react-markdown";
import remarkGfm from "remark-gfm";
import { type HelpPage, helpPages } from "./helppages";
import { anchorOf, around, found, sectionsOf, titleIn } from "./helpsearch";
import { useNarrow } from "./narrow";
import { Scroll } from "./scroll";

const texts = import.meta.glob<string>("../../../docs/help/*.md", { query: "?raw", import: "default", eager: true });
const pictures = import.meta.glob<string>("../../../docs/help/pictures/*.png", {
  query: "?url",
  import: "default",
  eager: true,
});
const textOf = (p: HelpPage) => texts[`../../../docs/help/${p}.md`] ?? "";

const titleOf = (p: HelpPage) => titleIn(textOf(p)) ?? p;
const sections = helpPages.flatMap((page) => sectionsOf(page, textOf(page)));

export default function Pages({ first }: { first: HelpPage }) {
  const [at, setAt] = useState<{ page: HelpPage; anchor?: string }>({ page: first });
  const [find, setFind] = useState("");
  const box = useRef<HTMLDivElement>(null);
  const hits = useMemo(() => (find.trim() ? found(sections, find) : undefined), [find]);
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
        <nav
          aria-label="Pages of help"
          className="flex flex-col gap-1 max-[899px]:flex-row max-[899px]:flex-wrap max-[899px]:gap-x-3"
        >
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
                h2: ({ children }) => (
                  <h3 id={typeof children === "string" ? anchorOf(children) : undefined}>{children}</h3>
                ),
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
