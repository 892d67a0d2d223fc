import { useState } from "react";
import { toast } from "sonner";
import { api, type Condition, http, type Schemas, type Sheet } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Blank } from "../../parts/picker";
import { copyText } from "../../parts/clipboard";
import { longestName } from "../../parts/name";
import { useMay } from "../../parts/session";
import { count } from "../../parts/time";
import { sameView, type View } from "./view";

export type Kept = Schemas["View"];

// The order of a view: some columns, the first deciding.
export function OrderPicker({
  sheet,
  sort,
  onChange,
}: {
  sheet: Sheet;
  sort: Schemas["SortKey"][];
  onChange: (s: Schemas["SortKey"][]) => void;
}) {
  const left = sheet.columns.filter((c) => !sort.some((k) => k.column === c.id));
  const put = (i: number, k: Schemas["SortKey"] | null) =>
    onChange(k ? sort.map((x, n) => (n === i ? k : x)) : sort.filter((_, n) => n !== i));
  return (
    <div className="flex flex-col gap-2">
      {sort.map((k, i) => (
        <div key={k.column} className="flex items-center gap-2">
          <span className="w-10 text-ink-2">{i === 0 ? "by" : "then"}</span>
          <select
            className="field"
            aria-label={`Sort by, ${i + 1}`}
            value={k.column}
            onChange={(e) => put(i, { ...k, column: e.target.value })}
          >
            {sheet.columns
              .filter((c) => c.id === k.column || left.includes(c))
              .map((c) => (
                <option key={c.id} value={c.id}>
                  {c.name}
                </option>
              ))}
          </select>
          <label className="flex items-center gap-1.5">
            <input
              type="checkbox"
              className="accent-juniper"
              checked={k.down ?? false}
              onChange={(e) => put(i, { ...k, down: e.target.checked })}
            />
            descending
          </label>
          <button
            type="button"
            className="link"
            aria-label={`Not by ${sheet.columns.find((c) => c.id === k.column)?.name}`}
            onClick={() => put(i, null)}
          >
            Remove
          </button>
        </div>
      ))}
      {sort.length < 4 && left.length > 0 && (
        <label className="flex items-center gap-2">
          <span className="w-10 text-ink-2">{sort.length === 0 ? "by" : "then"}</span>
          <select
            className="field"
            aria-label="Sort by another column"
            value=""
            onChange={(e) => e.target.value && onChange([...sort, { column: e.target.value }])}
          >
            <option value="">{sort.length === 0 ? "entry" : "…"}</option>
            {left.map((c) => (
              <option key={c.id} value={c.id}>
                {c.name}
              </option>
            ))}
          </select>
        </label>
      )}
    </div>
  );
}

// Kept views: one's own and those that others share.
export function ViewPicker({
  sheet,
  view,
  current,
  onUse,
}: {
  sheet: Sheet;
  view: View;
  current?: string;
  onUse: (v: Kept | null) => void;
}) {
  const q = api.useQuery("get", "/sheets/{sheet}/views", { params: { path: { sheet: sheet.id } } });
  const mayShare = useMay("editor");
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [shared, setShared] = useState(false);
  const views = (q.data ?? []).filter((v) => !v.deletedAt);
  const deleted = (q.data ?? []).filter((v) => v.deletedAt);
  const here = views.find((v) => v.id === current);
  const changed = here && !sameView(here.spec, view);
  const changes = [keys.views];
  const after = (v: Kept) => {
    onUse(v);
    setName("");
  };
  const spec = view as { filter?: Condition };
  const keep = useWrite<void, Kept>({
    write: () =>
      http.POST("/sheets/{sheet}/views", { params: { path: { sheet: sheet.id } }, body: { name, shared, spec } }),
    changes,
    after,
  });
  const update = useWrite<Kept, Kept>({
    write: ({ id, name, shared, spec }) =>
      http.PUT("/sheets/{sheet}/views/{view}", {
        params: { path: { sheet: sheet.id, view: id } },
        body: { name, shared, spec },
      }),
    changes,
    after,
  });
  const back = (v: Kept) =>
    http.POST("/sheets/{sheet}/views/{view}/restore", { params: { path: { sheet: sheet.id, view: v.id } } });
  const restore = useWrite<Kept>({ write: back, changes });
  const remove = useWrite<Kept>({
    write: (v) => http.DELETE("/sheets/{sheet}/views/{view}", { params: { path: { sheet: sheet.id, view: v.id } } }),
    changes,
    saved: (_, v) =>
      `The view ${v.name} is deleted${v.shared ? ", for all who had it" : ""}. For 30 days it can be restored, here.`,
    undo: (_, v) => back(v),
    after: () => onUse(null),
  });
  return (
    <Blank
      title="Saved views of this sheet"
      words={
        here ? `“${here.name}”${changed ? ", changed" : ""}` : views.length > 0 ? "a saved view" : "save this view"
      }
      label="View"
      open={open}
      onOpenChange={setOpen}
    >
      <div className="w-[380px]">
        {views.length === 0 && (
          <p className="text-ink-2">None yet. A view saves which rows are shown, and in which order.</p>
        )}
        <ul>
          {views.map((v) => (
            <li key={v.id} className="flex items-baseline gap-3 border-b border-hair-2 py-1.5">
              <button
                type="button"
                className={`min-w-0 flex-1 truncate text-left hover:underline ${v.id === current ? "font-[650]" : ""}`}
                onClick={() => {
                  onUse(v);
                  setOpen(false);
                }}
              >
                {v.name}
              </button>
              <span className="text-xs text-ink-2">
                {v.mine ? (v.shared ? "yours, shared" : "yours") : `shared by ${v.by}`}
              </span>
              <button
                type="button"
                className="link text-xs"
                title={v.shared ? "Copy a link that can be sent" : "Only a shared view opens for others"}
                onClick={() => {
                  void copyText(`${location.origin}/sheets/${sheet.id}?view=${v.id}`);
                  toast(
                    v.shared
                      ? "The link is copied."
                      : "The link is copied. It opens for you alone, until you share the view.",
                  );
                }}
              >
                link
              </button>
              {v.mine && (
                <button
                  type="button"
                  className="link text-xs"
                  aria-label={`Delete ${v.name}`}
                  onClick={() => void remove.do(v)}
                >
                  Delete
                </button>
              )}
            </li>
          ))}
        </ul>
        {deleted.length > 0 && (
          <details className="mt-2 text-ink-2">
            <summary className="cursor-pointer">{count(deleted.length, "deleted view")}</summary>
            <ul>
              {deleted.map((v) => (
                <li key={v.id} className="flex items-baseline gap-3 py-1">
                  <span className="min-w-0 flex-1 truncate">{v.name}</span>
                  <button type="button" className="link" disabled={restore.busy} onClick={() => void restore.do(v)}>
                    Restore
                  </button>
                </li>
              ))}
            </ul>
          </details>
        )}
        {here?.mine && changed && (
          <button type="button" className="act-plain mt-3" onClick={() => void update.do({ ...here, spec })}>
            Save “{here.name}” as it is now
          </button>
        )}
        {here?.mine && mayShare && (
          <label className="mt-3 flex items-center gap-2">
            <input
              type="checkbox"
              className="accent-juniper"
              checked={here.shared}
              onChange={(e) => void update.do({ ...here, shared: e.target.checked })}
            />
            share “{here.name}” with all who see the sheet
          </label>
        )}
        {here && (
          <button
            type="button"
            className="link mt-3 block"
            onClick={() => {
              onUse(null);
              setOpen(false);
            }}
          >
            Show all rows again
          </button>
        )}
        <form
          className="mt-3 flex flex-wrap items-center gap-2 border-t border-hair-2 pt-3"
          onSubmit={(e) => {
            e.preventDefault();
            if (name.trim()) void keep.do();
          }}
        >
          <input
            className="field w-44"
            aria-label="Name of the view"
            placeholder="Name"
            maxLength={longestName}
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          {mayShare && (
            <label className="flex items-center gap-1.5">
              <input
                type="checkbox"
                className="accent-juniper"
                checked={shared}
                onChange={(e) => setShared(e.target.checked)}
              />
              share
            </label>
          )}
          <button type="submit" className="act-plain" disabled={!name.trim()}>
            Save what is shown
          </button>
        </form>
      </div>
    </Blank>
  );
}
