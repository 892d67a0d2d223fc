import type { ReactNode } from "react";

/** A part of the page that scrolls by itself: a named region that the keys can
 * reach, so that what is out of sight can be read without a pointer. */
export function Scroll({ label, className, children }: { label: string; className?: string; children: ReactNode }) {
  return (
    <div role="region" aria-label={label} tabIndex={0} className={`overflow-auto ${className ?? ""}`}>
      {children}
    </div>
  );
}
