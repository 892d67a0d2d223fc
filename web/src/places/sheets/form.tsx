import { toast } from "sonner";
import { copyText } from "../../parts/clipboard";
import { api, http, type Schemas, type Sheet } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { draftOf, Leaving, LeftBehind, useLeaving, usePending } from "../../parts/draft";
import { Scroll } from "../../parts/scroll";
import { WriteState } from "../../parts/writestate";

type Form = Schemas["Form"];

// The intake form of a sheet: a public page whose answers become rows.
export function FormPart({ sheet }: { sheet: Sheet }) {
  const path = { sheet: sheet.id };
  const q = api.useQuery("get", "/sheets/{sheet}/form", { params: { path } });
  const { pending: draft, setPending: setDraft, left } = usePending<Form>(draftOf.form(sheet.id));
  const leaving = useLeaving(draft !== undefined);
  const save = useWrite({
    write: (x: Form) => http.PUT("/sheets/{sheet}/form", { params: { path }, body: x }),
    saved: (_, x) => (x.open ? "The form is open." : q.data?.form.open ? "The form is closed." : "The form is saved."),
    changes: [keys.form],
    after: () => setDraft(undefined),
    quiet: true,
  });
  const renew = useWrite({
    write: () => http.POST("/sheets/{sheet}/form/address", { params: { path } }),
    saved: "The form has a new address. The old one leads nowhere.",
    changes: [keys.form],
  });
  const state = q.data;
  if (!state) return <Await query={q} />;
  const f = draft ?? state.form;
  const put = (x: Partial<Form>) => setDraft({ ...f, ...x });
  const columns = sheet.columns.filter((c) => c.type !== "formula" && c.type !== "file" && !c.hidden);
  const asked = (id: string) => f.fields.find((x) => x.column === id);
  const toggle = (id: string, name: string) =>
    put({ fields: asked(id) ? f.fields.filter((x) => x.column !== id) : [...f.fields, { column: id, label: name }] });
  const field = (id: string, x: Partial<Form["fields"][number]>) =>
    put({ fields: f.fields.map((o) => (o.column === id ? { ...o, ...x } : o)) });
  return (
    <Scroll label="Form" className="min-h-0 flex-1 px-5 py-4">
      {left && <LeftBehind what="form" {...left} />}
      <Leaving of={leaving} what="form" onSave={draft && (() => save.do(f))} />
      <p className="mb-4 max-w-3xl font-letter text-[15px] leading-6">
        {state.form.open ? (
          <>
            The form is open. Whoever has its address can add a row:{" "}
            <a
              href={state.address}
              target="_blank"
              rel="noreferrer"
              className="break-all text-juniper underline underline-offset-2"
            >
              {state.address}
            </a>{" "}
            <button
              type="button"
              className="link ml-3 font-sans text-[13px]"
              onClick={() => {
                void copyText(state.address);
                toast("The address is copied.");
              }}
            >
              copy
            </button>{" "}
            <button type="button" className="link ml-3 font-sans text-[13px]" onClick={() => void renew.do()}>
              change the address
            </button>
          </>
        ) : (
          "The form is closed. Say what it asks for, and open it: it gets a page of its own, under an address that cannot be guessed. A rule that answers added rows can write at once."
        )}
      </p>
      <div className="flex flex-wrap gap-x-14 gap-y-6">
        <div className="flex w-[360px] max-w-full flex-col gap-3">
          <label>
            <span className="mb-1 block">Title</span>
            <input className="field w-full" value={f.title} onChange={(e) => put({ title: e.target.value })} />
          </label>
          <label>
            <span className="mb-1 block">Before the questions</span>
            <textarea
              className="field w-full"
              rows={3}
              value={f.intro}
              onChange={(e) => put({ intro: e.target.value })}
            />
          </label>
          <label>
            <span className="mb-1 block">On the button</span>
            <input className="field w-48" value={f.button} onChange={(e) => put({ button: e.target.value })} />
          </label>
          <label>
            <span className="mb-1 block">Once it has been sent</span>
            <textarea
              className="field w-full"
              rows={3}
              value={f.thanks}
              onChange={(e) => put({ thanks: e.target.value })}
            />
          </label>
          <label className="flex items-start gap-2">
            <input
              type="checkbox"
              className="mt-1 accent-juniper"
              checked={!f.unconfirmed}
              onChange={(e) => put({ unconfirmed: !e.target.checked || undefined })}
            />
            <span>
              An address is confirmed first
              <span className="block text-ink-2">
                Its owner gets one email with a link; the row is added when they follow it. Without this, anybody can
                have emails sent to anybody.
              </span>
            </span>
          </label>
        </div>
        <div className="min-w-[480px] flex-1">
          <h2 className="mb-1">What it asks for</h2>
          <table className="tbl [&_td]:align-middle!">
            <thead>
              <tr>
                <th>Column</th>
                <th>Asked as</th>
                <th>A hint below it</th>
                <th>Must be filled</th>
              </tr>
            </thead>
            <tbody>
              {columns.map((c) => {
                const x = asked(c.id);
                return (
                  <tr key={c.id}>
                    <td>
                      <label className="flex items-center gap-2">
                        <input
                          type="checkbox"
                          className="accent-juniper"
                          checked={x !== undefined}
                          onChange={() => toggle(c.id, c.name)}
                        />
                        {c.name}
                      </label>
                    </td>
                    <td>
                      {x && (
                        <input
                          className="field w-52"
                          aria-label={`Asked for ${c.name}`}
                          value={x.label}
                          onChange={(e) => field(c.id, { label: e.target.value })}
                        />
                      )}
                    </td>
                    <td>
                      {x && (
                        <input
                          className="field w-52"
                          aria-label={`Hint for ${c.name}`}
                          value={x.hint ?? ""}
                          onChange={(e) => field(c.id, { hint: e.target.value })}
                        />
                      )}
                    </td>
                    <td>
                      {x && (
                        <input
                          type="checkbox"
                          className="accent-juniper"
                          aria-label={`${c.name} must be filled`}
                          checked={x.required ?? false}
                          onChange={(e) => field(c.id, { required: e.target.checked })}
                        />
                      )}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        </div>
      </div>
      <p className="mt-3">
        <WriteState of={[save]} />
      </p>
      <div className="mt-3 flex items-center gap-4">
        {state.form.open ? (
          <>
            <button type="button" className="act" disabled={!draft} onClick={() => void save.do(f)}>
              Change the form
            </button>
            <button
              type="button"
              className="link text-brick!"
              onClick={() => void save.do({ ...state.form, open: false })}
            >
              Close the form
            </button>
          </>
        ) : (
          <>
            <button
              type="button"
              className="act"
              disabled={f.fields.length === 0}
              onClick={() => void save.do({ ...f, open: true })}
            >
              Open the form, with {f.fields.length === 1 ? "1 question" : `${f.fields.length} questions`}
            </button>
            {draft && (
              <button type="button" className="link" onClick={() => void save.do({ ...f, open: false })}>
                Save, and keep it closed
              </button>
            )}
          </>
        )}
      </div>
    </Scroll>
  );
}
