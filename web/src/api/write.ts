// One way to write: busy while it is under way, failed with a reason and a way to try
// again (also where the server cannot be reached), saved, and what it changed asked
// again. Where the session has ended it waits for the sign-in, and goes on.
import { type QueryKey, useMutation, useQueryClient } from "@tanstack/react-query";
import { toast } from "sonner";
import { type Failure, passing, type Problem, problemOf, take, words } from "./client";
import { connection } from "./connection";
import { refresh } from "./keys";

export type Write<V, T> = {
  /** Does it; a failure is told, and undefined comes back. */
  do: (v: V) => Promise<T | undefined>;
  busy: boolean;
  /** What is under way, until what it changes has been asked again. */
  going: V | undefined;
  /** The last time went well. */
  done: boolean;
  /** Does the same once more. */
  again: () => Promise<T | undefined>;
  /** Why the last time failed, where failures are shown beside what was typed. */
  failed: Problem | undefined;
  clear: () => void;
};

type Options<V, T> = {
  write: (v: V) => Promise<{ data?: T; error?: unknown }>;
  /** The keys of what it changes. */
  changes?: readonly QueryKey[] | ((v: V) => readonly QueryKey[]);
  /** What to say once it is done. */
  saved?: string | ((data: T, v: V) => string | undefined);
  /** Takes it back; "Undo" stands beside what is said. */
  undo?: (data: T, v: V) => Promise<{ data?: unknown; error?: unknown }>;
  after?: (data: T, v: V) => void | Promise<void>;
  /** Failures are shown by who asks, and not told at the foot of the page. */
  quiet?: boolean;
  /** It is the sign-in itself, which nothing is waited for. */
  signsIn?: boolean;
  /** Writes of one name go one after the other. */
  inTurn?: string;
};

export function useWrite<V = void, T = unknown>(o: Options<V, T>): Write<V, T> {
  const client = useQueryClient();
  const ask = (v: V) => refresh(client, typeof o.changes === "function" ? o.changes(v) : (o.changes ?? []));
  const m = useMutation<T, Failure, V>({
    mutationFn: (v) => (o.signsIn ? take(o.write(v)) : persist(() => o.write(v))),
    // Without this a write would wait for the network and say nothing.
    networkMode: "always",
    scope: o.inTurn === undefined ? undefined : { id: o.inTurn },
    onSuccess: async (data, v) => {
      const said = typeof o.saved === "function" ? o.saved(data, v) : o.saved;
      const { undo } = o;
      const back = undo && {
        label: "Undo",
        onClick: () =>
          void take(undo(data, v)).then(
            () => ask(v),
            (e: unknown) => toast.error(words(e)),
          ),
      };
      if (said) toast.success(said, back && { action: back });
      await o.after?.(data, v);
      await ask(v);
    },
    onError: (e, v) => {
      if (e.problem.newer !== undefined) void ask(v); // what somebody else has saved is shown
      if (o.quiet) return;
      const again = passing(e.problem) && {
        label: "Try again",
        onClick: () => void m.mutateAsync(v).catch(() => undefined),
      };
      toast.error(e.message, { duration: again ? 30_000 : 8000, ...(again && { action: again }) });
    },
  });
  const attempt = (v: V) => m.mutateAsync(v).catch(() => undefined);
  return {
    do: attempt,
    busy: m.isPending,
    going: m.isPending ? m.variables : undefined,
    done: m.isSuccess,
    again: () => attempt(m.variables as V),
    failed: m.error?.problem,
    clear: m.reset,
  };
}

// Writes; where nobody is signed in any more, once more after the sign-in.
async function persist<T>(write: () => Promise<{ data?: T; error?: unknown }>): Promise<T> {
  try {
    return await take(write());
  } catch (e) {
    if (problemOf(e).status !== 401) throw e;
    await connection.untilSignedIn();
    return take(write());
  }
}
