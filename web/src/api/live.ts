import type { QueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

// Asks again what changed, as the server tells: one stream a page, and at most
// two rounds a second however much happens.
export function useLive(client: QueryClient, on: boolean) {
  useEffect(() => {
    if (!on) return;
    const source = new EventSource("/api/events");
    let timer = 0;
    const again = () => {
      if (timer) return;
      timer = window.setTimeout(() => {
        timer = 0;
        client.invalidateQueries({ predicate: (q) => q.meta?.still !== true });
      }, 400);
    };
    let opened = false;
    source.addEventListener("change", again);
    source.addEventListener("open", () => {
      if (opened) again(); // back after a break: something may have been missed
      opened = true;
    });
    return () => {
      source.close();
      window.clearTimeout(timer);
    };
  }, [client, on]);
}
