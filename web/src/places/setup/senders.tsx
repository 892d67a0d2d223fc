import { useState } from "react";
import { api, http, type Schemas } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { useMay } from "../../parts/session";

type Save = Schemas["SenderSave"];
const fresh: Save = { name: "", address: "", host: "", port: 587, security: "starttls", username: "" };

export function Senders() {
  const senders = api.useQuery("get", "/setup/senders");
  const may = useMay("administrator");
  const [open, setOpen] = useState<string | null>(null);
  const list = senders.data;
  if (!list) return <Await query={senders} />;
  return (
    <div className="overflow-auto px-5 py-4">
      <h1 className="mb-3">
        {list.length === 0 ? (
          <>
            <b>Senders.</b> None yet. Without one nothing can go out.
          </>
        ) : (
          <>
            <b>Senders.</b> Emails go out from the first of these.
          </>
        )}
      </h1>
      <table className="tbl max-w-4xl">
        <thead>
          <tr>
            <th>From</th>
            <th>Mail server</th>
            <th>Protection</th>
            <th>Signs in as</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {list.map((s) => (
            <tr key={s.id}>
              <td>
                {s.name} &lt;{s.address}&gt;
              </td>
              <td>
                {s.host}:{s.port}
              </td>
              <td>{s.security === "none" ? "none" : s.security === "tls" ? "TLS" : "STARTTLS"}</td>
              <td>
                {s.username || "nobody"}
                {s.hasPassword && ", with a password"}
              </td>
              <td>
                {may && (
                  <button type="button" className="link" onClick={() => setOpen(s.id)}>
                    change
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {may && open === null && (
        <button type="button" className="link mt-3" onClick={() => setOpen("new")}>
          Add a sender
        </button>
      )}
      {open !== null && (
        <SenderForm
          key={open}
          id={open === "new" ? undefined : open}
          start={{ ...fresh, ...pickSave(list.find((s) => s.id === open)) }}
          onDone={() => setOpen(null)}
        />
      )}
    </div>
  );
}

function pickSave(s?: Schemas["Sender"]): Partial<Save> {
  return s ? { name: s.name, address: s.address, host: s.host, port: s.port, security: s.security, username: s.username } : {};
}

function SenderForm({ id, start, onDone }: { id?: string; start: Save; onDone: () => void }) {
  const [form, setForm] = useState(start);
  const save = useWrite<void, Schemas["Sender"]>({
    write: () =>
      id
        ? http.PUT("/setup/senders/{sender}", { params: { path: { sender: id } }, body: form })
        : http.POST("/setup/senders", { body: form }),
    changes: [keys.senders],
    saved: "Saved.",
    after: onDone,
    quiet: true,
  });
  const problem = save.failed;
  const field = (key: "name" | "address" | "host" | "username" | "password", label: string, type = "text") => (
    <label className="flex flex-col gap-1">
      {label}
      <input
        className="field"
        type={type}
        autoComplete="off"
        aria-invalid={problem?.field === `/${key}`}
        value={form[key] ?? ""}
        onChange={(e) => setForm({ ...form, [key]: e.target.value })}
      />
    </label>
  );
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        void save.do();
      }}
      className="mt-4 grid max-w-2xl grid-cols-2 gap-x-6 gap-y-3 border-t border-hair pt-4"
    >
      {field("name", "Name that recipients see")}
      {field("address", "Address")}
      {field("host", "Mail server")}
      <label className="flex flex-col gap-1">
        Port
        <input className="field" type="number" value={form.port} onChange={(e) => setForm({ ...form, port: Number(e.target.value) })} />
      </label>
      <label className="flex flex-col gap-1">
        Protection
        <select
          className="field"
          value={form.security}
          onChange={(e) => setForm({ ...form, security: e.target.value as Save["security"] })}
        >
          <option value="starttls">STARTTLS</option>
          <option value="tls">TLS</option>
          <option value="none">none</option>
        </select>
      </label>
      {field("username", "User name, if it wants one")}
      {field("password", id ? "Password; leave empty to keep the one there is" : "Password, if it wants one", "password")}
      <p role="alert" className="col-span-2 min-h-5 text-brick">
        {problem?.title}
      </p>
      <span className="col-span-2 flex gap-3">
        <button type="submit" className="act" disabled={save.busy}>
          Save the sender
        </button>
        <button type="button" className="act-plain" onClick={onDone}>
          Leave it
        </button>
      </span>
    </form>
  );
}
