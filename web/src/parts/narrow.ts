import { useSyncExternalStore } from "react";

/** Below so many pixels a page has one column: a phone, a tablet held upright, or large letters. */
export const narrowBelow = 900;

const query = () => window.matchMedia(`(max-width: ${narrowBelow - 1}px)`);
const subscribe = (f: () => void) => {
  const q = query();
  q.addEventListener("change", f);
  window.addEventListener("resize", f);
  return () => {
    q.removeEventListener("change", f);
    window.removeEventListener("resize", f);
  };
};

/** Reports whether the page is narrow. */
export const useNarrow = (): boolean => useSyncExternalStore(subscribe, () => query().matches);

/** How wide the page is, in pixels. */
export const useWidth = (): number => useSyncExternalStore(subscribe, () => window.innerWidth);
