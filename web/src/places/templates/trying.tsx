// Trying a letter: it is sent to oneself or to colleagues, for the row that is seen or for rows
// that show what is different.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, http, type Schemas, take, words } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Blank } from "../../parts/picker";
import { useSession } from "../../parts/session";
import { count } from "../../parts/time";

type TryRow = Schemas["TryRow"];
type Props = { sheet: string; template: Schemas["TemplateBody"]; saved?: Schemas["Template"]; row?: TryRow };

export function Trying({ sheet, template, saved, row }: Props) {
  const [open, setOpen] = useState(false);
  const send = useWrite<{ rows: TryRow[]; to: string[] }, Schemas["TestsSent"]>({
    write: (x) =>
      http.POST("/sheets/{sheet}/test-email", {
        params: { path: { sheet } },
        body: { template, saved: saved?.id, ...x },
      }),
    changes: [keys.logPages, keys.log],
    saved: (sent) =>
      sent.subjects.length === 1
        ? `Sent to ${sent.to.join(", ")} alone: “${sent.subjects[0]}”.`
        : `Sent ${count(sent.subjects.length, "test")} to ${sent.to.join(", ")} alone.`,
    after: () => setOpen(false),
  });
  return (
    <span className="ml-auto flex items-baseline gap-4">
      <Blank words="More tests …" title="Send tests" open={open} onOpenChange={setOpen}>
        <Form
          sheet={sheet}
          template={template}
          saved={saved}
          row={row}
          busy={send.busy}
          onSend={(rows, to) => void send.do({ rows, to })}
        />
      </Blank>
      <button
        type="button"
        className="link"
        disabled={!row || send.busy}
        onClick={() => row && void send.do({ rows: [row], to: [] })}
      >
        Send me this one
      </button>
    </span>
  );
}

const idOf = (r: TryRow) => `${r.row} ${r.template ?? ""}`;

type FormProps = Props & { busy: boolean; onSend: (rows: TryRow[], to: string[]) => void };

function Form({ sheet, template, saved, row, busy, onSend }: FormProps) {
  const me = useSession().person;
  const colleagues = api.useQuery("get", "/colleagues");
  const [to, setTo] = useState<string[]>(me ? [me.email] : []);
  const [what, setWhat] = useState(row ? "shown" : "differing"); // or the id of a rule
  const differing = what !== "shown";
  const rule = what === "shown" || what === "differing" ? undefined : what;
  const [left, setLeft] = useState<string[]>([]);
  const picked = useQuery({
    queryKey: [...keys.preview(sheet), what, template],
    enabled: differing,
    queryFn: () =>
      take(http.POST("/sheets/{sheet}/test-rows", { params: { path: { sheet }, query: { rule } }, body: template })),
  });
  const chosen = (picked.data ?? []).filter((r) => !left.includes(idOf(r)));
  const rows = differing ? chosen.map((r) => ({ row: r.row, why: r.why, template: r.template })) : row ? [row] : [];
  const tick = "flex items-baseline gap-2 py-0.5";
  const box = "accent-juniper";
  return (
    <form
      className="flex w-96 flex-col gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        onSend(rows, to);
      }}
    >
      <fieldset className="max-h-40 overflow-auto">
        <legend className="mb-1 text-ink-2">To</legend>
        {(colleagues.data ?? []).map((p) => (
          <label key={p.email} className={tick}>
            <input
              type="checkbox"
              className={box}
              checked={to.includes(p.email)}
              onChange={(e) => setTo(e.target.checked ? [...to, p.email] : to.filter((x) => x !== p.email))}
            />
            {p.email === me?.email ? "me" : p.name} <small className="text-ink-2">{p.email}</small>
          </label>
        ))}
      </fieldset>
      <fieldset>
        <legend className="mb-1 text-ink-2">What</legend>
        <label className={tick}>
          <input
            type="radio"
            name="what"
            className={box}
            checked={!differing}
            disabled={!row}
            onChange={() => setWhat("shown")}
          />
          the row that is shown{row?.name ? `, ${row.name}` : ""}
        </label>
        <label className={tick}>
          <input
            type="radio"
            name="what"
            className={box}
            checked={what === "differing"}
            onChange={() => setWhat("differing")}
          />
          rows that show all that is different
        </label>
        {(saved?.usedBy ?? []).map((u) => (
          <label key={u.rule} className={tick}>
            <input
              type="radio"
              name="what"
              className={box}
              checked={rule === u.rule}
              onChange={() => setWhat(u.rule)}
            />
            one row for each template of rule {u.letter}, {u.name}, as they are saved
          </label>
        ))}
        {differing && picked.isPending && <p className="ml-6 text-ink-2">Going through the rows …</p>}
        {differing && picked.error && (
          <p role="alert" className="ml-6 text-brick">
            {words(picked.error)}
          </p>
        )}
        {differing && picked.data?.length === 0 && (
          <p className="ml-6 text-ink-2">No row’s email could go as it is now.</p>
        )}
        {differing &&
          picked.data?.map((r) => (
            <label key={idOf(r)} className={`ml-6 ${tick}`}>
              <input
                type="checkbox"
                className={box}
                checked={!left.includes(idOf(r))}
                onChange={(e) => setLeft(e.target.checked ? left.filter((x) => x !== idOf(r)) : [...left, idOf(r)])}
              />
              {r.name}: {(r.why ?? []).join("; ")}
            </label>
          ))}
      </fieldset>
      <p className="text-ink-2">
        Marked as tests in the subject and in the log. Nobody else gets them, and no rule counts them.
      </p>
      <button type="submit" className="act self-start" disabled={busy || rows.length === 0 || to.length === 0}>
        {rows.length > 1 ? `Send ${count(rows.length, "test")}` : "Send the test"}
      </button>
    </form>
  );
}
