// What an import came to: what came in, what was left out, and what needs a look.
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type Condition, http, type Schemas, type Sheet, take } from "../../api/client";
import { keys } from "../../api/keys";
import { Section, Slip } from "../../parts/slip";
import { count } from "../../parts/time";
import { isDate } from "./cell";
import type { Edits } from "./edits";
import { doubledRows, type View } from "./view";

type Result = Schemas["ImportResult"];
const nameOf = (sheet: string) => `nivot-imported-${sheet}`;

/** Keeps what an import came to, for the slip that tells it. */
export function keepImported(sheet: string, r: Result): void {
  try {
    sessionStorage.setItem(nameOf(sheet), JSON.stringify({ ...r, samples: [], sets: undefined }));
  } catch {
    // The browser keeps nothing: the rows are there all the same.
  }
}
function kept(sheet: string): Result | undefined {
  try {
    return (JSON.parse(sessionStorage.getItem(nameOf(sheet)) ?? "null") as Result | null) ?? undefined;
  } catch {
    return undefined;
  }
}

type Props = { sheet: Sheet; may: boolean; edits: Edits; onView: (v: View) => void; onClose: () => void };

export function ImportedSlip({ sheet, may, edits, onView, onClose }: Props) {
  const r = kept(sheet.id);
  const unreadable: Condition = {
    any: sheet.columns.filter((c) => c.type !== "formula").map((c) => ({ column: c.id, op: "unreadable" })),
  };
  const noAddress: Condition | undefined = sheet.address
    ? { any: [{ column: sheet.address, op: "empty" }] }
    : undefined;
  const bad = useCounted(sheet, unreadable);
  const without = useCounted(sheet, noAddress);
  const look = (n: number | undefined, one: string, many: string, view: View) =>
    (n ?? 0) > 0 && (
      <li className="flex items-baseline gap-3 border-b border-hair-2 py-1">
        <span className="min-w-0 flex-1 text-brick">
          {count(n ?? 0, "row")} {n === 1 ? one : many}
        </span>
        <button type="button" className="link" onClick={() => onView(view)}>
          Review
        </button>
      </li>
    );
  // A rule can begin from each of the dates; the first few stand here.
  const dates = sheet.columns.filter(isDate).slice(0, 3);
  const fine = r && !bad && !without && r.doubled + r.keyless === 0;
  return (
    <Slip title="What was imported" onClose={onClose} head={<b className="text-ink">Imported into {sheet.name}</b>}>
      {!r && (
        <p className="mt-3 text-ink-2">
          What was imported last is not known in this window any more. It stands under History.
        </p>
      )}
      {r && (
        <>
          <Section title="Imported">
            <Line n={r.new} what="added" />
            <Line n={r.changed} what="changed" more={`, in ${count(r.cells, "cell")}`} />
            <Line n={r.unchanged} what="unchanged" />
            <Line n={r.gone} what="marked as gone: no longer in the file" />
          </Section>
          {r.blank + r.skipped.length > 0 && (
            <Section title="Not imported">
              {r.blank > 0 && <p>{count(r.blank, "blank line")}</p>}
              {r.skipped.length > 0 && (
                <p>
                  {r.skipped.length === 1 ? "The column" : "The columns"} {r.skipped.join(", ")}
                </p>
              )}
            </Section>
          )}
        </>
      )}
      <Section title="Needs a look">
        {fine && <p className="text-ink-2">Nothing: every cell fits its column.</p>}
        <ul>
          {look(bad, "has a cell that does not fit its column", "have cells that do not fit their columns", {
            filter: unreadable,
          })}
          {look(without, "has no address", "have no address", { filter: noAddress })}
          {look(r?.doubled, "shares its key with another", "share their key with others", doubledRows(sheet.key))}
        </ul>
        {r && r.keyless > 0 && (
          <p>{count(r.keyless, "row has", "rows have")} no key, and cannot be matched by a later file.</p>
        )}
      </Section>
      {may && (
        <Section title="Next">
          <p className="flex flex-wrap items-center gap-x-4 gap-y-2">
            {dates.map((c, i) => (
              <Link
                key={c.id}
                to="/sheets/$sheet/rules/$rule"
                params={{ sheet: sheet.id, rule: "new" }}
                search={{ when: "date", column: c.id }}
                className={i === 0 ? "act" : "act-plain"}
              >
                Remind of {c.name}
              </Link>
            ))}
            <Link
              to="/sheets/$sheet/rules/$rule"
              params={{ sheet: sheet.id, rule: "new" }}
              className={dates.length === 0 ? "act" : "act-plain"}
            >
              Add {dates.length === 0 ? "a" : "another"} rule
            </Link>
            {r?.change && (
              <button
                type="button"
                className="act-plain"
                onClick={() => {
                  edits.undo(r.change);
                  onClose();
                }}
              >
                Undo the import
              </button>
            )}
          </p>
        </Section>
      )}
    </Slip>
  );
}

function Line({ n, what, more }: { n: number; what: string; more?: string }) {
  if (n === 0) return null;
  return (
    <p>
      {count(n, "row")} {what}
      {more}
    </p>
  );
}

// How many rows a filter shows.
function useCounted(sheet: Sheet, filter: Condition | undefined): number | undefined {
  const q = useQuery({
    queryKey: [...keys.rows(sheet.id), "counted", filter],
    enabled: filter !== undefined,
    queryFn: () =>
      take(
        http.POST("/sheets/{sheet}/rows/query", {
          params: { path: { sheet: sheet.id } },
          body: { filter, offset: 0, limit: 1, marks: false },
        }),
      ),
  });
  return q.data?.total;
}
