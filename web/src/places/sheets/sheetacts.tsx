// What is done with a sheet as a whole: renamed, copied, put away, deleted.
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { toast } from "sonner";
import { api, http, type Sheet } from "../../api/client";
import { keys, ofSheet } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Confirm } from "../../parts/confirm";
import { longestName, NameLimit } from "../../parts/name";
import { Blank } from "../../parts/picker";
import { count } from "../../parts/time";
import { WriteState } from "../../parts/writestate";

const listed = [keys.sheets, keys.awaySheets, keys.today, keys.templates];

export function SheetActs({ sheet: s, words }: { sheet: Sheet; words: string }) {
  const navigate = useNavigate();
  const path = { sheet: s.id };
  const [open, setOpen] = useState(false);
  const [name, setName] = useState(s.name);
  const [asking, setAsking] = useState<"delete" | "put away">();
  const rename = useWrite({
    write: () => http.PATCH("/sheets/{sheet}", { params: { path }, body: { name } }),
    changes: [...ofSheet(s.id), keys.templates],
    after: () => setOpen(false),
    quiet: true,
  });
  const copy = useWrite<boolean, Sheet>({
    write: (rows) =>
      http.POST("/sheets/{sheet}/copy", {
        params: { path },
        body: { name: `${s.name}, copy`.slice(0, longestName), rows },
      }),
    changes: listed,
    saved: (made) => `${made.name} is made. Its rules are not on.`,
    after: (made) => void navigate({ to: "/sheets/$sheet", params: { sheet: made.id } }),
    quiet: true,
  });
  const back = () => http.POST("/sheets/{sheet}/restore", { params: { path } });
  const gone = (what: string) => ({
    changes: listed,
    after: () => {
      toast(what, {
        duration: 12_000,
        action: { label: "Undo", onClick: () => void undo.do() },
      });
      void navigate({ to: "/sheets" });
    },
  });
  const undo = useWrite({ write: back, changes: listed, saved: `${s.name} is restored. Its rules are paused.` });
  const remove = useWrite({
    write: () => http.DELETE("/sheets/{sheet}", { params: { path } }),
    ...gone(`${s.name} is deleted. For 30 days it can be restored, under Sheets.`),
  });
  const putAway = useWrite({
    write: () => http.POST("/sheets/{sheet}/put-away", { params: { path } }),
    ...gone(`${s.name} is put away. It stands below the sheets, under Sheets.`),
  });
  const f = s.figures;
  return (
    <>
      <Blank words={words} title={`The sheet ${s.name}`} open={open} onOpenChange={setOpen} plain>
        <div className="flex w-80 flex-col gap-3">
          <form
            className="flex items-end gap-2"
            onSubmit={(e) => {
              e.preventDefault();
              void rename.do();
            }}
          >
            <label className="flex min-w-0 flex-1 flex-col gap-1">
              Name
              <input
                className="field w-full"
                required
                maxLength={longestName}
                value={name}
                onChange={(e) => setName(e.target.value)}
              />
            </label>
            <button type="submit" className="act-plain" disabled={rename.busy || !name.trim() || name === s.name}>
              Rename
            </button>
          </form>
          <NameLimit name={name} />
          <p className="flex flex-wrap gap-x-4 gap-y-1">
            <button type="button" className="link" disabled={copy.busy} onClick={() => void copy.do(true)}>
              Copy, with {count(f.rows, "row")}
            </button>
            <button type="button" className="link" disabled={copy.busy} onClick={() => void copy.do(false)}>
              Copy without rows
            </button>
          </p>
          <SenderOf sheet={s} />
          <p className="flex flex-wrap gap-x-4 gap-y-1 border-t border-hair-2 pt-3">
            {!s.putAwayAt && (
              <button type="button" className="link" onClick={() => setAsking("put away")}>
                Put away …
              </button>
            )}
            <button type="button" className="link text-brick!" onClick={() => setAsking("delete")}>
              Delete …
            </button>
          </p>
          <WriteState of={[rename, copy]} doing={copy.busy ? "Copying …" : undefined} />
        </div>
      </Blank>
      {asking && (
        <Confirm
          title={asking === "delete" ? `Delete ${s.name}?` : `Put ${s.name} away?`}
          act={`${asking === "delete" ? "Delete" : "Put away"} ${count(f.rows, "row")}${f.rulesOn > 0 ? `, pause ${count(f.rulesOn, "rule")}` : ""}`}
          busy={remove.busy || putAway.busy}
          onNo={() => setAsking(undefined)}
          onYes={() => {
            setAsking(undefined);
            void (asking === "delete" ? remove : putAway).do();
          }}
        >
          <p>
            {f.coming > 0
              ? `${count(f.coming, "email")} of the next four weeks ${f.coming === 1 ? "is" : "are"} not sent. `
              : "No email is coming. "}
            {f.held > 0 &&
              `${count(f.held, "email")} that ${f.held === 1 ? "waits is" : "wait are"} skipped, and ${f.held === 1 ? "does" : "do"} not come back. `}
            What was sent stays in the log.
          </p>
          <p className="mt-1 text-ink-2">
            {asking === "delete"
              ? "For 30 days the sheet can be restored, with its rules paused."
              : "It can still be opened, and restored at any time, with its rules paused."}
          </p>
        </Confirm>
      )}
    </>
  );
}

// By whom a sheet's emails are sent.
function SenderOf({ sheet: s }: { sheet: Sheet }) {
  const senders = api.useQuery("get", "/setup/senders");
  const save = useWrite<string>({
    write: (sender) => http.PATCH("/sheets/{sheet}", { params: { path: { sheet: s.id } }, body: { sender } }),
    changes: [...ofSheet(s.id), keys.senders],
    quiet: true,
  });
  const list = senders.data ?? [];
  const byDefault = list.find((x) => x.isDefault);
  if (!byDefault) return null;
  return (
    <div className="border-t border-hair-2 pt-3">
      <label className="flex flex-col gap-1">
        Its emails go out from
        <select
          className="field"
          disabled={save.busy}
          value={save.going ?? s.sender}
          onChange={(e) => void save.do(e.target.value)}
        >
          <option value="">{byDefault.name}, as by default</option>
          {list.map((x) => (
            <option key={x.id} value={x.id}>
              {x.name} &lt;{x.address}&gt;
            </option>
          ))}
        </select>
      </label>
      <WriteState of={[save]} />
    </div>
  );
}
