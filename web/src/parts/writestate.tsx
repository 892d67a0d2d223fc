// How a write stands, beside what was pressed: under way, or failed and why, with a way to
// try again. That it went well is said by the bar, for all of them.
import { useIsMutating, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { passing, type Problem } from "../api/client";
import { useConnection } from "../api/connection";
import type { Write } from "../api/write";
import { clock } from "./time";

type Of = Pick<Write<never, unknown>, "busy" | "failed" | "again">;

/** Several writes stand together: the first that failed is told. A failure because of a
 * newer version is told where both are shown. */
export function WriteState({ of, doing = "Saving …", problem }: { of: Of[]; doing?: string; problem?: Problem }) {
  const failed = of.find((w) => w.failed && w.failed.newer === undefined);
  const told = failed?.failed ?? problem;
  if (of.some((w) => w.busy))
    return (
      <span role="status" className="text-ink-2">
        {doing}
      </span>
    );
  return (
    <span role="alert" className="text-brick">
      {told?.title}
      {failed?.failed && passing(failed.failed) && (
        <button type="button" className="link ml-3" onClick={() => void failed.again()}>
          Try again
        </button>
      )}
    </span>
  );
}

const slow = 300; // milliseconds after which a write under way is told
const shown = 2500;

/** In the bar: that something is being saved, that it is, that it is not, and that nothing
 * comes back from the server. */
export function SavingLine({ zone }: { zone: string }) {
  const busy = useIsMutating() > 0;
  const client = useQueryClient();
  const { lostSince } = useConnection();
  const [said, setSaid] = useState("");
  useEffect(() => {
    let t = 0;
    const say = (words: string, forMs?: number) => {
      window.clearTimeout(t);
      setSaid(words);
      if (forMs) t = window.setTimeout(() => setSaid(""), forMs);
    };
    const stop = client.getMutationCache().subscribe((e) => {
      if (e.type !== "updated") return;
      if (e.action.type === "success") say("Saved", shown);
      if (e.action.type === "error") say("Not saved", 2 * shown);
    });
    return () => {
      stop();
      window.clearTimeout(t);
    };
  }, [client]);
  const [late, setLate] = useState(false);
  useEffect(() => {
    if (!busy) return;
    const t = window.setTimeout(() => setLate(true), slow);
    return () => {
      window.clearTimeout(t);
      setLate(false);
    };
  }, [busy]);
  if (lostSince)
    return (
      <span
        role="status"
        className="min-w-0 truncate font-semibold text-marigold"
        title="What you type is kept, and sent when it is back."
      >
        No connection since {clock(lostSince, zone)}
        <span className="sr-only">; what you type is kept</span>
      </span>
    );
  return (
    <span role="status" className={`whitespace-nowrap ${said === "Not saved" ? "text-brick" : ""}`}>
      {busy && late ? "Saving …" : said}
    </span>
  );
}
