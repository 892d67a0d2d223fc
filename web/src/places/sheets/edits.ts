import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { toast } from "sonner";
import { http, type Row, type Schemas, type Sheet, take as answer, words } from "../../api/client";
import { keys, refresh } from "../../api/keys";
import { cellsOf } from "../../parts/left";
import { randomId } from "../../parts/random";
import { useLimits, useSession } from "../../parts/session";
import { count } from "../../parts/time";
import { inputOf } from "./rows";
import { type Change, type Kind, pendingTexts, type Step, Unsent, verdict } from "./unsent";

export type { Kind, Step } from "./unsent";
export type Clash = Schemas["CellConflict"];
type Result = Schemas["ChangeResult"];
type Page = Schemas["RowPage"];
// What the tab that has sent a change tells the one that has made it.
type Asked = { kind: Kind; steps: Step[]; then?: (r: Result) => void };
type Told = { change: Change; result?: Result } | { sending: string };
// A change that can be undone, or an undoing that can be redone. It stands in its stack from the moment in which
// it is asked for, so that what follows at once takes back the right one; its id comes with the server's answer.
type Entry = { of?: string; made: Promise<string | undefined>; id?: string };
type Stack = React.RefObject<Entry[]>;

const retryEvery = 2000;
const page = randomId();

// Each tab holds a lock of its own for as long as it is open. Browsers give
// locks only where the connection is safe; without them each tab sends, and the
// id of a change makes it once all the same.
const locks = typeof navigator === "undefined" ? undefined : (navigator.locks as LockManager | undefined);
void locks?.request(`page:${page}`, () => new Promise(() => {}));
async function isOpen(of: string): Promise<boolean> {
  const held = (await locks?.query())?.held ?? [];
  return held.some((l) => l.name === `page:${of}`);
}

// Changes of a sheet's rows: one after the other, shown at once, tried again
// until the server has them, undone and done again.
export function useEdits(sheet: Sheet) {
  const client = useQueryClient();
  const place = cellsOf(useSession().person?.id ?? "") + sheet.id;
  const [unsent] = useState(() => new Unsent(localStorage, place, page));
  const channel = useRef<BroadcastChannel | null>(null);
  const done = useRef(new Map<string, (r: Result) => void>());
  const sending = useRef<string | undefined>(undefined);
  const busy = useRef(false);
  const { foretold } = useLimits();
  const undos = useRef<Entry[]>([]);
  const redos = useRef<Entry[]>([]);
  // Who waits for the answer to a change of this page, by the change's own id; and one undoing after the other.
  const answers = useRef(new Map<string, (id?: string) => void>());
  const line = useRef<Promise<unknown>>(Promise.resolve());
  const [waiting, setWaiting] = useState<Change[]>(() => unsent.list());
  const [away, setAway] = useState(false);
  const [clashes, setClashes] = useState<Clash[]>([]);
  const look = useCallback(() => setWaiting(unsent.list()), [unsent]);

  const replace = useCallback(
    (rows: Row[]) => {
      const by = new Map(rows.map((r) => [r.id, r]));
      client.setQueriesData<Page>(
        { queryKey: keys.rows(sheet.id) },
        (p) => p && { ...p, rows: p.rows.map((r) => by.get(r.id) ?? r) },
      );
    },
    [client, sheet.id],
  );
  const again = useCallback(
    () => refresh(client, [keys.rows(sheet.id), keys.sheet, keys.row, keys.cell]),
    [client, sheet.id],
  );

  const tell = useCallback((of: string, id?: string) => {
    answers.current.get(of)?.(id);
    answers.current.delete(of);
  }, []);
  const take = useCallback(
    (c: Change, r: Result) => {
      replace(r.rows);
      if (answers.current.has(c.id)) tell(c.id, r.id || undefined);
      else if (r.id) {
        enter(undos, Promise.resolve(r.id)); // a page that has been closed left it
        redos.current = [];
      }
      if (r.conflicts.length > 0) setClashes((list) => [...list, ...r.conflicts]);
      if (c.kind !== "edit" && r.cells + r.added.length > 1) toast(changedWords(c.kind, r));
      done.current.get(c.id)?.(r);
      done.current.delete(c.id);
      if (c.kind !== "edit" || c.steps.some((s) => s.op !== "edit")) void again();
    },
    [again, replace, tell],
  );

  // Sends one change; reports whether the queue may go on.
  const send = useCallback(
    async (c: Change): Promise<boolean> => {
      sending.current = c.id;
      channel.current?.postMessage({ sending: c.id } satisfies Told);
      const { data, error, response } = await http
        .POST("/sheets/{sheet}/changes", {
          params: { path: { sheet: sheet.id } },
          body: { kind: c.kind, steps: c.steps, ask: c.ask },
          headers: { "Idempotency-Key": c.id },
        })
        .catch(() => ({ data: undefined, error: undefined, response: undefined }));
      sending.current = undefined;
      const said = data ? "taken" : verdict(response?.status ?? 0);
      if (said === "later") return false;
      unsent.remove(c.id);
      if (said === "refused") {
        tell(c.id);
        if (c.page !== page) channel.current?.postMessage({ change: c } satisfies Told);
        toast.error(words(error), { duration: 12000 });
        void again();
      } else if (data) {
        // It belongs to the tab that it was typed in, while that is open.
        if (c.page === page || !(await isOpen(c.page))) take(c, data);
        else channel.current?.postMessage({ change: c, result: data } satisfies Told);
      }
      return true;
    },
    [sheet.id, unsent, take, tell, again],
  );
  const pump = useCallback(async () => {
    if (busy.current) return;
    busy.current = true;
    const all = async () => {
      for (let c = unsent.list()[0]; c; c = unsent.list()[0]) {
        const on = await send(c);
        look();
        setAway(!on);
        if (!on) return;
      }
    };
    // One tab at a time sends, in the order of the typing.
    try {
      await (locks ? locks.request(place, all) : all());
    } finally {
      busy.current = false;
    }
  }, [place, unsent, send, look]);

  useEffect(() => {
    const c = new BroadcastChannel(place);
    channel.current = c;
    c.onmessage = (e: MessageEvent<Told>) => {
      if ("sending" in e.data) sending.current = e.data.sending;
      else if (e.data.change.page === page) {
        if (e.data.result) take(e.data.change, e.data.result);
        else tell(e.data.change.id);
      }
      look();
    };
    const stored = (e: StorageEvent) => {
      if (unsent.holds(e.key)) look();
    };
    window.addEventListener("storage", stored);
    const t = window.setInterval(() => {
      if (unsent.list().length > 0) void pump();
    }, retryEvery);
    // What a page before this one left is sent as this one opens.
    const first = window.setTimeout(() => void pump(), 0);
    return () => {
      c.close();
      channel.current = null;
      window.removeEventListener("storage", stored);
      window.clearInterval(t);
      window.clearTimeout(first);
    };
  }, [place, unsent, pump, take, tell, look]);

  const put = useCallback(
    (x: Asked, ask?: boolean) => {
      const c = unsent.add({ id: randomId(), kind: x.kind, steps: x.steps, ask });
      if (x.then) done.current.set(c.id, x.then);
      enter(undos, new Promise((resolve) => answers.current.set(c.id, resolve)), c.id);
      redos.current = [];
      look();
      void pump();
    },
    [unsent, look, pump],
  );
  // A change of many rows is looked at before it is made: what it would set off
  // is shown, where it is anything.
  const [asking, setAsking] = useState<Asked & { sets: Schemas["Consequences"] }>();
  const watched = sheet.figures.rulesOn > 0;
  const change = useCallback(
    (kind: Kind, steps: Step[], then?: (r: Result) => void) => {
      if (steps.length === 0) return;
      const x = { kind, steps, then };
      if (!watched || steps.length <= foretold) return put(x);
      answer(
        http.POST("/sheets/{sheet}/changes/effect", { params: { path: { sheet: sheet.id } }, body: { steps } }),
      ).then(
        (sets) => (sets.rules.length > 0 ? setAsking({ ...x, sets }) : put(x)),
        () => put(x), // what cannot be foretold is not kept from being done
      );
    },
    [watched, foretold, put, sheet.id],
  );
  const settle = useCallback(
    (a: "apply" | "hold" | "cancel") => {
      if (asking && a !== "cancel") put(asking, a === "hold" ? true : undefined);
      setAsking(undefined);
    },
    [asking, put],
  );

  // Takes a change back, or does it again; gives the id of the change that this is.
  const step = useCallback(
    async (id: string) => {
      try {
        const r = await answer(
          http.POST("/sheets/{sheet}/changes/{change}/undo", { params: { path: { sheet: sheet.id, change: id } } }),
        );
        replace(r.rows);
        if (r.passed > 0) toast(passedWords(r.passed));
        void refresh(client, [keys.rows(sheet.id), keys.sheet, keys.row, keys.cell, keys.sheetHistory(sheet.id)]);
        return r.id || undefined;
      } catch (e) {
        toast.error(words(e));
      }
    },
    [client, sheet.id, replace],
  );
  // Does so in its turn, once the server has what is taken back, and enters it in the stack of what it can be
  // taken back with.
  const back = useCallback(
    (made: Entry["made"], to: Stack) => {
      const turn = line.current.then(async () => {
        const id = await made;
        return id && (await step(id)); // none: it was refused, or changed nothing
      });
      line.current = turn;
      enter(to, turn);
    },
    [step],
  );
  const undo = useCallback(
    (id?: string) => {
      if (id) {
        undos.current = undos.current.filter((x) => x.id !== id);
        return back(Promise.resolve(id), redos);
      }
      // What has not gone yet does not go.
      const kept = unsent.takeBack(sending.current);
      if (kept) {
        undos.current = undos.current.filter((x) => x.of !== kept.id);
        tell(kept.id);
        return look();
      }
      const last = undos.current.pop();
      if (!last) return void toast("Nothing of yours is left to undo.");
      back(last.made, redos);
    },
    [back, tell, unsent, look],
  );
  const redo = useCallback(() => {
    const last = redos.current.pop();
    if (!last) return void toast("Nothing to redo.");
    back(last.made, undos);
  }, [back]);
  // A change that was made elsewhere on the page, as an import, can be undone too.
  const remember = useCallback((id: string) => {
    if (id) enter(undos, Promise.resolve(id));
    redos.current = [];
  }, []);
  const pending = useMemo(() => pendingTexts(waiting), [waiting]);

  // Gives of a cell what it will hold once the server has all that has been typed by now: what one does next
  // goes by that.
  const latest = useCallback(() => {
    const typed = pendingTexts(unsent.list());
    return (row: Row | undefined, column: string, i: number): string =>
      (row && typed.get(`${row.id}|${column}`)) ?? inputOf(row, i);
  }, [unsent]);

  return { change, undo, redo, remember, pending, latest, away, clashes, setClashes, asking, settle };
}
export type Edits = ReturnType<typeof useEdits>;

// Puts what is under way on a stack; what comes to nothing leaves it again.
function enter(stack: Stack, made: Entry["made"], of?: string): void {
  const entry: Entry = { of, made };
  stack.current.push(entry);
  void made.then((id) => {
    entry.id = id;
    if (!id) stack.current = stack.current.filter((x) => x !== entry);
  });
}

function changedWords(kind: Kind, r: Result): string {
  const added = r.added.length > 0 ? ` and added ${count(r.added.length, "row")}` : "";
  const misfits =
    r.unreadable > 0
      ? ` ${count(r.unreadable, "cell does", "cells do")} not fit and ${r.unreadable === 1 ? "is" : "are"} marked.`
      : "";
  return `${kind === "clear" ? "Cleared" : "Changed"} ${count(r.cells, "cell")}${added}.${misfits}`;
}
const passedWords = (n: number) =>
  `${count(n, "cell or row has", "cells or rows have")} been changed since and ${n === 1 ? "was" : "were"} left.`;
