// The stream of changes: one for all tabs of a browser, which opens no more than six connections to a
// server. The tab that holds a lock listens, and passes on what it hears.
import { base } from "./base";

/** What is heard of the server. */
export type Heard =
  | { what: "change"; data: string }
  | { what: "open" } // of the stream; after a break something may have been missed
  | { what: "lost" } // it is tried again by itself
  | { what: "refused" }; // it is not: the session has ended, or there is too much going on

// After how long a refused stream is asked for again.
const reconnect = 3000;
// For how long a tab that nobody sees goes on listening.
const unseen = 5 * 60_000;

const name = `nivot events ${base}`;

/** Hears of changes until the function it returns is called. */
export function listen(hear: (h: Heard) => void): () => void {
  if (!("locks" in navigator) || typeof BroadcastChannel === "undefined") return own(hear);
  const channel = new BroadcastChannel(name);
  channel.onmessage = (e: MessageEvent<Heard>) => hear(e.data);
  let end: (() => void) | undefined; // of this tab's turn, or of its wait for one
  let timer = 0;

  const begin = () => {
    if (end) return;
    const waiting = new AbortController();
    let close: (() => void) | undefined;
    let over: (() => void) | undefined;
    end = () => {
      waiting.abort();
      close?.();
      over?.();
    };
    navigator.locks
      .request(name, { signal: waiting.signal }, () => {
        close = own((h) => {
          channel.postMessage(h);
          hear(h);
        });
        return new Promise<void>((done) => (over = done));
      })
      .catch(() => undefined); // it was given up before its turn
  };
  const rest = () => {
    end?.();
    end = undefined;
  };
  // A tab that nobody sees lets another listen, and asks for everything anew when it is seen again.
  const seen = () => {
    window.clearTimeout(timer);
    if (document.visibilityState === "hidden") {
      timer = window.setTimeout(rest, unseen);
    } else if (!end) {
      begin();
      hear({ what: "open" });
    }
  };
  document.addEventListener("visibilitychange", seen);
  begin();
  seen();
  return () => {
    document.removeEventListener("visibilitychange", seen);
    window.clearTimeout(timer);
    rest();
    channel.close();
  };
}

// A stream of this tab's own.
function own(hear: (h: Heard) => void): () => void {
  let source: EventSource;
  let retry = 0;
  const open = () => {
    source = new EventSource(`${base}/api/events`);
    source.addEventListener("change", (e) => hear({ what: "change", data: (e as MessageEvent<string>).data }));
    source.addEventListener("open", () => hear({ what: "open" }));
    source.addEventListener("error", () => {
      hear({ what: "lost" });
      // The browser tries again by itself, unless it was refused.
      if (source.readyState === EventSource.CLOSED) {
        hear({ what: "refused" });
        window.clearTimeout(retry);
        retry = window.setTimeout(open, reconnect);
      }
    });
  };
  open();
  return () => {
    source.close();
    window.clearTimeout(retry);
  };
}
