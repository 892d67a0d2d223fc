import { type ReactNode, useEffect, useRef } from "react";
import { keepFocus } from "./focus";
import { Scroll } from "./scroll";

// A panel from the right, over the margin. Escape closes it; the focus goes in
// and comes back.
export function Slip({
  title,
  onClose,
  children,
  head,
  foot,
  wide,
}: {
  title: string;
  onClose: () => void;
  children: ReactNode;
  head?: ReactNode;
  foot?: ReactNode;
  wide?: boolean | "letter"; // wider; so wide that a letter is written in it
}) {
  const box = useRef<HTMLElement>(null);
  useEffect(() => {
    const back = keepFocus();
    box.current?.focus();
    return back;
  }, []);
  const close = useRef(onClose);
  useEffect(() => {
    close.current = onClose;
  });
  useEffect(() => {
    const el = box.current;
    const keys = (e: KeyboardEvent) => {
      if (e.key !== "Escape") return;
      e.stopPropagation();
      close.current();
    };
    el?.addEventListener("keydown", keys);
    return () => el?.removeEventListener("keydown", keys);
  }, []);
  return (
    <aside
      ref={box}
      tabIndex={-1}
      aria-label={title}
      className={`slip max-[899px]:fixed max-[899px]:top-11! max-[899px]:bottom-14! max-[899px]:w-full! absolute inset-y-0 right-0 z-30 flex max-w-full flex-col outline-none ${wide === "letter" ? "w-[820px]" : wide ? "w-[560px]" : "w-[470px]"}`}
    >
      <div className="flex items-center gap-2 px-6 pt-4 text-ink-2">
        {head}
        <button type="button" className="link ml-auto print:hidden" onClick={onClose}>
          close
          <kbd className="key" aria-hidden>
            Esc
          </kbd>
        </button>
      </div>
      {wide === "letter" ? (
        <div className="flex min-h-0 flex-1 flex-col">{children}</div>
      ) : (
        <Scroll label={`${title}, content`} className="min-h-0 flex-1 px-6 pb-5">
          {children}
        </Scroll>
      )}
      {foot && <div className="flex flex-wrap items-center gap-4 border-t border-hair px-6 py-3">{foot}</div>}
    </aside>
  );
}

export function Section({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section>
      <h2 className="mt-4 mb-1 text-xs font-[650] text-ink-2">{title}</h2>
      {children}
    </section>
  );
}
