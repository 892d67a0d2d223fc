import { useEffect, useState } from "react";
import { flushSync } from "react-dom";

/** Reports whether the page is being printed: a list of which only the lines in view are there
 * is then to be whole. */
export function usePrinting(): boolean {
  const [on, setOn] = useState(false);
  useEffect(() => {
    const print = window.matchMedia("print");
    // The browser prints what is there when this returns.
    const change = (e: MediaQueryListEvent) => flushSync(() => setOn(e.matches));
    print.addEventListener("change", change);
    return () => print.removeEventListener("change", change);
  }, []);
  return on;
}
