// What two people change at the same time: each saves over the version that
// they opened. Who comes later sees both, and chooses.
import { type ReactNode, useState } from "react";

type Versioned = { version: number };

/** Follows something that is edited: the version it was opened in, what has
 * been made of it since, and the newer version of somebody else. now is what the
 * server has, heard live; draft is what is edited of it. */
export function useOpened<T extends Versioned, D>(now: T | undefined, draft: (x: T | undefined) => D) {
  const [base, setBase] = useState(now);
  const [mine, setMine] = useState(() => draft(now));
  const [was, setWas] = useState(() => JSON.stringify(now ? mine : null));
  const [times, setTimes] = useState(0);
  const changed = JSON.stringify(mine) !== was;
  const open = (x: T) => {
    const d = draft(x);
    setBase(x);
    setMine(d);
    setWas(JSON.stringify(d));
    setTimes((n) => n + 1);
  };
  const newer = now && base && now.version > base.version ? now : undefined;
  // Where nothing of ours waits, theirs is simply shown.
  if (newer && !changed) open(newer);
  return {
    mine,
    changed,
    /** The version that was opened; it is sent with what is saved. */
    version: base?.version,
    /** Counts what was taken over from somebody else. */
    times,
    newer: changed ? newer : undefined,
    edit: setMine,
    /** It stands on the server as x; what was sent of it has not changed since. */
    saved: (x: T, sent?: D) => {
      setBase(x);
      if (sent !== undefined) setWas(JSON.stringify(sent));
    },
    takeTheirs: () => newer && open(newer),
    /** Mine stays, as a change of theirs: saving it now is meant. */
    keepMine: () => setBase(newer),
  };
}

/** Both, side by side, with the choice. */
export function Overtaken(p: {
  what: string;
  theirs: ReactNode;
  mine: ReactNode;
  onTheirs: () => void;
  onMine: () => void;
}) {
  return (
    <section role="alert" aria-label="Saved meanwhile" className="my-4 border-y border-hair py-3">
      <h2 className="mb-2 text-marigold">Somebody else has saved this {p.what} since you opened it.</h2>
      <div className="grid grid-cols-2 gap-5 max-sm:grid-cols-1">
        <div>
          <h2 className="mb-1 text-xs text-ink-2">Theirs, which stands now</h2>
          {p.theirs}
          <button type="button" className="link mt-2" onClick={p.onTheirs}>
            Use theirs
          </button>
        </div>
        <div>
          <h2 className="mb-1 text-xs text-ink-2">Yours, not saved yet</h2>
          {p.mine}
          <button type="button" className="link mt-2" onClick={p.onMine}>
            Use mine
          </button>
        </div>
      </div>
    </section>
  );
}
