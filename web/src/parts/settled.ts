import { useEffect, useState } from "react";

/** A value once it has not changed for some milliseconds. */
export function useSettled<T>(value: T, rest: number): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const t = window.setTimeout(() => setSettled(value), rest);
    return () => window.clearTimeout(t);
  }, [value, rest]);
  return settled;
}
