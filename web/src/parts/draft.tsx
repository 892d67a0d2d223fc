// What was written and not saved, kept in the browser until it is: through reloads,
// crashes and mistaken links. Leaving asks all the same.
import { useBlocker } from "@tanstack/react-router";
import { AlertDialog } from "radix-ui";
import { useEffect, useRef, useState } from "react";
import { draftsOf } from "./left";

type Kept<D> = { at: string; version: number; draft: D };

// Whose drafts they are: nobody finds another person's.
let owner = "";
export function ownDrafts(person: string): void {
  owner = person;
}
const nameOf = (id: string) => draftsOf(owner) + id;

function read<D>(id: string): Kept<D> | undefined {
  try {
    const text = localStorage.getItem(nameOf(id));
    return text ? (JSON.parse(text) as Kept<D>) : undefined;
  } catch {
    return undefined;
  }
}

/** Leaves a draft behind, to be taken up where what it is of is opened. */
export function leaveDraft(id: string, draft: unknown): void {
  localStorage.setItem(nameOf(id), JSON.stringify({ at: new Date().toISOString(), version: 0, draft }));
}

/** The draft that was left behind, if there is one. */
export function leftDraft<D>(id: string): D | undefined {
  return read<D>(id)?.draft;
}

/** The names under which drafts are kept: one place for each thing that is written. */
export const draftOf = {
  rule: (sheet: string, rule = "new") => `rule-${sheet}-${rule}`,
  template: (sheet: string, template = "new") => `${sheet}-${template}`,
  piece: (piece = "new") => `piece-${piece}`,
  signature: (sender: string) => `signature-${sender}`,
  columns: (sheet: string) => `columns-${sheet}`,
  form: (sheet: string) => `form-${sheet}`,
  sender: (sender = "new") => `sender-${sender}`,
  calendar: (calendar: string) => `calendar-${calendar}`,
  source: (sheet: string) => `source-${sheet}`,
};

/** Keeps a draft while it differs from what is saved, and gives the one that was left behind
 * by an earlier visit, until it is taken up or dropped. */
export function useDraft<D>(id: string, draft: D, changed: boolean, version: number) {
  const [left, setLeft] = useState(() => {
    const kept = id === "" ? undefined : read<D>(id);
    return kept && JSON.stringify(kept.draft) !== JSON.stringify(draft) ? kept : undefined;
  });
  useEffect(() => {
    if (left || id === "") return; // what was left stays until somebody has said what becomes of it
    try {
      if (changed)
        localStorage.setItem(
          nameOf(id),
          JSON.stringify({ at: new Date().toISOString(), version, draft } satisfies Kept<D>),
        );
      else localStorage.removeItem(nameOf(id));
    } catch {
      // The browser keeps nothing: leaving warns all the same.
    }
  }, [id, draft, changed, version, left]);
  return {
    left,
    taken: () => setLeft(undefined),
    drop: () => {
      localStorage.removeItem(nameOf(id));
      setLeft(undefined);
    },
  };
}

/** Says that something was written on an earlier visit and not saved, and offers it. */
export function LeftBehind({
  at,
  what,
  onTake,
  onDrop,
}: {
  at: string;
  what: string;
  onTake: () => void;
  onDrop: () => void;
}) {
  return (
    <p role="status" className="mx-5 mb-2 flex flex-wrap items-baseline gap-x-4 gap-y-1 border-y border-hair py-2">
      <span>
        You changed this {what} on {new Date(at).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" })}{" "}
        and did not save it. <b>Your changes are still here.</b>
      </span>
      <button type="button" className="act" onClick={onTake}>
        Restore them
      </button>
      <button type="button" className="link" onClick={onDrop}>
        Delete them
      </button>
    </p>
  );
}

/** What has been changed of a form, or nothing; kept in the browser until it is saved. */
export function usePending<D>(id: string) {
  const [pending, setPending] = useState<D>();
  const kept = useDraft<D | undefined>(id, pending, pending !== undefined, 0);
  const left = kept.left && {
    at: kept.left.at,
    onTake: () => {
      setPending(kept.left?.draft);
      kept.taken();
    },
    onDrop: kept.drop,
  };
  return { pending, setPending, left };
}

/** Asks before a page with unsaved changes is left, by a link, by Back or by closing it.
 * The answer to passes gives leave once, to what the page itself leads to. */
export function useLeaving(on: boolean) {
  const free = useRef(false);
  const blocker = useBlocker({
    shouldBlockFn: ({ current, next }) => on && !free.current && current.pathname !== next.pathname,
    enableBeforeUnload: () => on && !free.current,
    withResolver: true,
  });
  return {
    blocker,
    pass: (go: () => unknown) => {
      free.current = true;
      void Promise.resolve(go()).finally(() => {
        free.current = false;
      });
    },
  };
}

/** The question that leaving asks. */
export function Leaving({
  of,
  what,
  onSave,
}: {
  of: ReturnType<typeof useLeaving>;
  what: string;
  onSave?: () => Promise<unknown>; // undefined where it cannot be saved as it is
}) {
  const { blocker } = of;
  const [saving, setSaving] = useState(false);
  if (blocker.status !== "blocked") return null;
  const save = async () => {
    setSaving(true);
    const done = await onSave?.();
    setSaving(false);
    if (done !== undefined) blocker.proceed();
    else blocker.reset();
  };
  return (
    <AlertDialog.Root open onOpenChange={(open) => !open && blocker.reset()}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-50 bg-ink/10" />
        <AlertDialog.Content className="pop fixed top-24 left-1/2 z-50 w-[440px] max-w-[94vw] -translate-x-1/2 p-6">
          <AlertDialog.Title className="font-letter text-lg font-semibold">This {what} is not saved</AlertDialog.Title>
          <AlertDialog.Description className="mt-1 mb-4">
            If you leave, your changes stay in this browser and are offered when you come back. Nothing of them takes
            effect.
          </AlertDialog.Description>
          <div className="flex flex-wrap items-center gap-3">
            {onSave && (
              <button type="button" className="act" disabled={saving} onClick={() => void save()}>
                {saving ? "Saving …" : "Save and leave"}
              </button>
            )}
            <AlertDialog.Action className="act-plain" onClick={blocker.proceed}>
              Leave without saving
            </AlertDialog.Action>
            <AlertDialog.Cancel className="act-plain">Stay</AlertDialog.Cancel>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
