import { api, http, type Schemas, type Sheet } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { draftOf, Leaving, LeftBehind, useLeaving, usePending } from "../../parts/draft";
import { Scroll } from "../../parts/scroll";
import { useNow } from "../../parts/session";
import { count, moment } from "../../parts/time";
import { WriteState } from "../../parts/writestate";

type Source = Schemas["Source"];
const blank: Source = {
  place: "",
  worksheet: "",
  headingRow: 0,
  everyMinutes: 60,
  atTime: "",
  share: 33,
  keep: false,
  paused: false,
};

// A file that somebody else keeps and the sheet follows.
export function SourcePart({ sheet }: { sheet: Sheet }) {
  const path = { sheet: sheet.id };
  const q = api.useQuery("get", "/sheets/{sheet}/source", { params: { path } }, { refetchInterval: 5000 });
  const { pending: draft, setPending: setDraft, left } = usePending<Source>(draftOf.source(sheet.id));
  const leaving = useLeaving(draft !== undefined);
  const now = useNow();
  const changes = [keys.source, keys.today, keys.sheet];
  const after = () => setDraft(undefined);
  const save = useWrite({
    write: (s: Source) => http.PUT("/sheets/{sheet}/source", { params: { path }, body: s }),
    saved: (_, s) =>
      s.paused
        ? "Paused."
        : q.data?.source?.paused
          ? "It is followed again."
          : "The sheet follows the file. It is checked now.",
    changes,
    after,
    quiet: true,
  });
  const look = useWrite({
    write: (overrule: boolean) =>
      http.POST("/sheets/{sheet}/source/refresh", { params: { path }, body: { overrule } }),
    saved: "It is checked now.",
    changes,
    after,
    quiet: true,
  });
  const drop = useWrite({
    write: () => http.DELETE("/sheets/{sheet}/source", { params: { path } }),
    saved: "The sheet follows nothing any more. Its rows stay.",
    changes,
    after,
    quiet: true,
  });
  const state = q.data;
  if (!state) return <Await query={q} />;
  const s = draft ?? state.source ?? blank;
  const put = (x: Partial<Source>) => setDraft({ ...s, ...x });
  const at = (t: string) => moment(t, sheet.zone, now);
  const key = sheet.columns.find((c) => c.id === sheet.key);
  return (
    <Scroll label="Source" className="min-h-0 flex-1 px-5 py-4">
      {left && <LeftBehind what="source" {...left} />}
      <Leaving of={leaving} what="source" onSave={draft?.place.trim() ? () => save.do(s) : undefined} />
      <div className="flex flex-wrap gap-x-16 gap-y-6">
        <div className="w-[520px] max-w-full">
          <p className="mb-4 font-letter text-[15px] leading-6">
            {state.source
              ? state.source.paused
                ? `Following ${state.source.place} is paused.`
                : `The sheet follows ${state.source.place}${state.nextAt ? `; it is checked next ${at(state.nextAt)}` : ""}.`
              : "The sheet follows no file yet. Say where one is, and its rows are matched with these by key whenever it changes."}
          </p>
          {state.lastError && (
            <div role="alert" className="mb-4 border-l-2 border-brick pl-3">
              <p>{state.lastError}</p>
              <p className="mt-1 text-ink-2">Nothing was changed.</p>
              {state.overShare && (
                <button type="button" className="act-plain mt-2" onClick={() => void look.do(true)}>
                  Import it all the same
                </button>
              )}
            </div>
          )}
          {!key && (
            <p className="mb-4 text-marigold">
              The sheet has no key column: every check would add all rows again. Choose one under Columns first.
            </p>
          )}
          <label className="block">
            <span className="mb-1 block">Where it is</span>
            <input
              className="field w-full"
              value={s.place}
              placeholder={state.folder ? "folder/file.csv in the watched folder, or https://…" : "https://…/file.csv"}
              onChange={(e) => put({ place: e.target.value })}
            />
          </label>
          <div className="mt-3 flex flex-wrap items-center gap-x-3 gap-y-2">
            Check it
            <select
              className="field"
              aria-label="How often"
              value={s.atTime ? "day" : "minutes"}
              onChange={(e) => put(e.target.value === "day" ? { atTime: "07:00" } : { atTime: "" })}
            >
              <option value="minutes">every</option>
              <option value="day">every day at</option>
            </select>
            {s.atTime ? (
              <input
                className="field w-18"
                aria-label="Time of day"
                value={s.atTime}
                onChange={(e) => put({ atTime: e.target.value })}
              />
            ) : (
              <label className="flex items-center gap-2">
                <input
                  type="number"
                  min={1}
                  className="field w-20"
                  value={s.everyMinutes}
                  onChange={(e) => put({ everyMinutes: Number(e.target.value) })}
                />
                minutes
              </label>
            )}
          </div>
          <label className="mt-3 flex flex-wrap items-center gap-2">
            Change nothing where it would change more than
            <input
              type="number"
              min={0}
              max={100}
              className="field w-18"
              value={s.share}
              onChange={(e) => put({ share: Number(e.target.value) })}
            />
            per cent of the rows
          </label>
          <label className="mt-3 flex items-center gap-2">
            Rows that it no longer has
            <select
              className="field"
              value={s.keep ? "keep" : "gone"}
              onChange={(e) => put({ keep: e.target.value === "keep" })}
            >
              <option value="gone">are marked as gone</option>
              <option value="keep">stay as they are</option>
            </select>
          </label>
          <div className="mt-3 flex flex-wrap items-center gap-4 text-ink-2">
            <label className="flex items-center gap-2">
              Worksheet
              <input
                className="field w-36"
                value={s.worksheet}
                placeholder="the first"
                onChange={(e) => put({ worksheet: e.target.value })}
              />
            </label>
            <label className="flex items-center gap-2">
              Columns named in row
              <input
                type="number"
                min={1}
                className="field w-18"
                value={s.headingRow || ""}
                placeholder="first"
                onChange={(e) => put({ headingRow: Number(e.target.value) || 0 })}
              />
            </label>
          </div>
          <p className="mt-3">
            <WriteState of={[save, look, drop]} />
          </p>
          <div className="mt-3 flex flex-wrap items-center gap-4">
            <button
              type="button"
              className="act"
              disabled={!s.place.trim() || (!draft && state.source !== undefined)}
              onClick={() => void save.do(s)}
            >
              {state.source ? "Change it" : "Follow this file"}
            </button>
            {state.source && (
              <>
                <button type="button" className="act-plain" onClick={() => void look.do(false)}>
                  Check it now
                </button>
                <button
                  type="button"
                  className="link"
                  onClick={() => state.source && void save.do({ ...state.source, paused: !state.source.paused })}
                >
                  {state.source.paused ? "Follow it again" : "Pause"}
                </button>
                <button type="button" className="link text-brick!" onClick={() => void drop.do()}>
                  Stop following it
                </button>
              </>
            )}
          </div>
        </div>
        <div className="min-w-[380px] flex-1">
          <h2 className="mb-1">What checking it came to</h2>
          {(state.log ?? []).length === 0 && <p className="text-ink-2">It has not been checked yet.</p>}
          <table className="tbl">
            <tbody>
              {(state.log ?? []).map((l, i) => (
                <tr key={i}>
                  <td className="w-32 whitespace-nowrap text-ink-2">{at(l.at)}</td>
                  <td className={l.kind === "refresh-failed" ? "text-brick" : l.kind === "looked" ? "text-ink-2" : ""}>
                    {l.words}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {(state.log ?? []).length >= 20 && <p className="py-2 text-ink-2">The last {count(20, "look")}.</p>}
        </div>
      </div>
    </Scroll>
  );
}
