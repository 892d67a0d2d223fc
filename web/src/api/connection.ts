// Whether the server can be reached, and whether it still knows who is here: what every
// request finds out, told to whoever shows it or waits for it.
import { useSyncExternalStore } from "react";

export type Connection = {
  /** Since when nothing has come back; undefined while all is well. */
  lostSince?: Date;
  /** The server no longer knows the person: sign-in is asked for over the page. */
  ended: boolean;
};

let state: Connection = { ended: false };
const listeners = new Set<() => void>();
const waiting = new Set<() => void>();

function become(next: Connection) {
  state = next;
  for (const f of listeners) f();
}

export const connection = {
  /** A request came back, whatever it says. */
  reached() {
    if (state.lostSince) become({ ...state, lostSince: undefined });
  },
  /** A request, or the stream of changes, found nobody. */
  lost() {
    if (!state.lostSince) become({ ...state, lostSince: new Date() });
  },
  /** A request was refused for want of a session. */
  ended() {
    if (!state.ended) become({ ...state, ended: true });
  },
  /** Somebody has signed in: what waited goes on. */
  signedIn() {
    become({ ...state, ended: false });
    for (const f of waiting) f();
    waiting.clear();
  },
  /** Resolves once somebody has signed in again. */
  untilSignedIn: (): Promise<void> => (state.ended ? new Promise((done) => waiting.add(done)) : Promise.resolve()),
};

const subscribe = (f: () => void) => {
  listeners.add(f);
  return () => listeners.delete(f);
};

/** How the connection stands. */
export const useConnection = (): Connection => useSyncExternalStore(subscribe, () => state);
