import { useInfiniteQuery } from "@tanstack/react-query";
import { api, http, type Sheet, take } from "../../api/client";
import { keys } from "../../api/keys";
import { Await } from "../../parts/await";
import { useNow } from "../../parts/session";
import { Slip } from "../../parts/slip";
import { count, moment } from "../../parts/time";
import type { Edits } from "./edits";
import { CellFiles } from "./files";

// The history of one cell: who, when, before and after; any of it can be put
// back.
export function CellSlip({
  sheet,
  row,
  column,
  mayEdit,
  edits,
  onClose,
}: {
  sheet: Sheet;
  row: string;
  column: string;
  mayEdit: boolean;
  edits: Edits;
  onClose: () => void;
}) {
  const q = api.useQuery("get", "/sheets/{sheet}/rows/{row}/cells/{column}", {
    params: { path: { sheet: sheet.id, row, column } },
  });
  const now = useNow();
  const d = q.data;
  if (!d)
    return (
      <Slip title="History of a cell" onClose={onClose}>
        <Await query={q} />
      </Slip>
    );
  const put = (text: string) =>
    edits.change("put-back", [{ op: "edit", row, cells: { [column]: text }, expected: { [column]: d.now } }]);
  const type = sheet.columns.find((c) => c.id === column)?.type;
  const locked = type === "formula";
  return (
    <Slip
      title={`History of ${d.column}`}
      onClose={onClose}
      head={
        <b className="text-ink">
          {d.row}, {d.column}
        </b>
      }
    >
      {type === "file" && (
        <CellFiles sheet={sheet} row={row} column={column} text={d.now} mayEdit={mayEdit} edits={edits} />
      )}
      <p className="mt-3">
        It holds {d.now ? <b>{d.now}</b> : "nothing"} now.{locked ? " It is calculated from other columns." : ""}
      </p>
      <ol className="mt-3">
        {d.entries.map((e, i) => (
          <li key={i} className="border-b border-hair-2 py-2">
            <div className="text-ink-2">
              {moment(e.at, sheet.zone, now)}, {e.actor}
            </div>
            <div className="flex items-baseline gap-3">
              <span className="min-w-0 flex-1 break-words">
                <s className="text-ink-2">{e.before || "empty"}</s> {e.after || "empty"}
              </span>
              {mayEdit && e.before !== d.now && (
                <button type="button" className="link flex-none" onClick={() => put(e.before)}>
                  Restore “{short(e.before)}”
                </button>
              )}
            </div>
          </li>
        ))}
      </ol>
      {d.entries.length === 0 && <p className="mt-3 text-ink-2">It is as it was imported.</p>}
    </Slip>
  );
}

const short = (s: string) => (s === "" ? "nothing" : s.length > 22 ? `${s.slice(0, 20)}…` : s);

// The history of a sheet, and the taking back of what is in it.
export function SheetHistory({
  sheet,
  edits,
  onRow,
  onClose,
}: {
  sheet: Sheet;
  edits: Edits;
  onRow: (row: string) => void;
  onClose: () => void;
}) {
  const now = useNow();
  const q = useInfiniteQuery({
    queryKey: keys.sheetHistory(sheet.id),
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      take(
        http.GET("/sheets/{sheet}/history", {
          params: { path: { sheet: sheet.id }, query: pageParam ? { before: pageParam } : {} },
        }),
      ),
    getNextPageParam: (last) => (last.length > 0 ? last[last.length - 1]?.id : undefined),
  });
  const list = q.data?.pages.flat() ?? [];
  return (
    <Slip
      title="History of the sheet"
      onClose={onClose}
      wide
      head={<b className="text-ink">History of {sheet.name}</b>}
    >
      <p className="mt-3 text-ink-2">
        Undo leaves what has been written there since, and restores rows that the change deleted. It can be undone
        itself.
      </p>
      <ol className="mt-2">
        {list.map((e) => (
          <li key={e.id} className="flex items-baseline gap-3 border-b border-hair-2 py-2">
            <span className="w-28 flex-none text-ink-2">{moment(e.at, sheet.zone, now)}</span>
            <span className="min-w-0 flex-1 break-words">
              <b className="font-semibold">{e.actor}</b> {e.words}
              {e.row && (
                <>
                  {" · "}
                  <button type="button" className="link" onClick={() => e.row && onRow(e.row)}>
                    {e.rowName}
                  </button>
                </>
              )}
            </span>
            {e.undoable && (
              <button type="button" className="link flex-none" onClick={() => edits.undo(e.id)}>
                {e.bringsBack ? "Restore" : "Undo"}
                {e.rows > 1 ? ` ${count(e.rows, "row")}` : ""}
              </button>
            )}
          </li>
        ))}
      </ol>
      {list.length === 0 && !q.isPending && <p className="mt-3 text-ink-2">Nothing has been changed yet.</p>}
      {q.hasNextPage && list.length >= 60 && (
        <button
          type="button"
          className="link mt-3"
          disabled={q.isFetchingNextPage}
          onClick={() => void q.fetchNextPage()}
        >
          Earlier
        </button>
      )}
    </Slip>
  );
}
