import { useState } from "react";
import { api, http, type Schemas } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { useSession } from "../../parts/session";
import { count } from "../../parts/time";

type Role = Schemas["Role"];
const roles: { id: Role; may: string }[] = [
  { id: "administrator", may: "everything" },
  { id: "coordinator", may: "sheets, templates, rules, sending" },
  { id: "editor", may: "change rows" },
  { id: "reader", may: "look" },
];

export function People() {
  const q = api.useQuery("get", "/people");
  const session = useSession();
  const [form, setForm] = useState({ name: "", email: "", role: "editor" as Role });
  const [link, setLink] = useState<{ name: string; link: string }>();
  const change = useWrite({
    write: (v: { person: string; role?: Role; disabled?: boolean }) =>
      http.PATCH("/people/{person}", { params: { path: { person: v.person } }, body: { role: v.role, disabled: v.disabled } }),
    changes: [keys.people],
  });
  const add = useWrite<void, { person: Schemas["Person"]; link: string }>({
    write: () => http.POST("/people", { body: form }),
    changes: [keys.people],
    after: (d) => {
      setLink({ name: d.person.name, link: d.link });
      setForm({ name: "", email: "", role: "editor" });
    },
    quiet: true,
  });
  const again = useWrite<Schemas["Person"], { link: string }>({
    write: (p) => http.POST("/people/{person}/link", { params: { path: { person: p.id } } }),
    after: (d, p) => setLink({ name: p.name, link: d.link }),
  });
  if (!q.data) return <Await query={q} />;
  return (
    <div className="overflow-auto px-5 py-4">
      <h1 className="mb-3">
        <b>People.</b> {count(q.data.length, "person may", "people may")} sign in.
      </h1>
      <table className="tbl max-w-4xl">
        <thead>
          <tr>
            <th>Name</th>
            <th>Address</th>
            <th>Role</th>
            <th />
            <th />
          </tr>
        </thead>
        <tbody>
          {q.data.map((p) => (
            <tr key={p.id} className={p.disabled ? "text-ink-2" : ""}>
              <td>
                {p.name}
                {p.id === session.person?.id && " (you)"}
              </td>
              <td>{p.email}</td>
              <td>
                <select
                  className="field"
                  aria-label={`Role of ${p.name}`}
                  value={p.role}
                  disabled={p.id === session.person?.id}
                  onChange={(e) => void change.do({ person: p.id, role: e.target.value as Role })}
                >
                  {roles.map((r) => (
                    <option key={r.id} value={r.id}>
                      {r.id}: {r.may}
                    </option>
                  ))}
                </select>
              </td>
              <td>
                {p.signedUp ? "" : "has not come yet"}
                {p.disabled && " may not sign in"}
              </td>
              <td className="whitespace-nowrap">
                {p.id !== session.person?.id && (
                  <>
                    <button type="button" className="link" onClick={() => void again.do(p)}>
                      new link
                    </button>{" "}
                    <button type="button" className="link ml-3" onClick={() => void change.do({ person: p.id, disabled: !p.disabled })}>
                      {p.disabled ? "let in again" : "let out"}
                    </button>
                  </>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          void add.do();
        }}
        className="mt-4 flex flex-wrap items-end gap-3"
      >
        <label className="flex flex-col gap-1">
          Name
          <input className="field w-48" required value={form.name} onChange={(e) => setForm({ ...form, name: e.target.value })} />
        </label>
        <label className="flex flex-col gap-1">
          Address
          <input className="field w-64" required value={form.email} onChange={(e) => setForm({ ...form, email: e.target.value })} />
        </label>
        <label className="flex flex-col gap-1">
          Role
          <select className="field" value={form.role} onChange={(e) => setForm({ ...form, role: e.target.value as Role })}>
            {roles.map((r) => (
              <option key={r.id}>{r.id}</option>
            ))}
          </select>
        </label>
        <button type="submit" className="act-plain" disabled={add.busy}>
          Add this person
        </button>
      </form>
      <p role="alert" className="mt-2 text-brick">
        {add.failed?.title}
      </p>
      {link && (
        <p className="mt-2">
          Give {link.name} this link; it works once, for a week: <code className="font-mono text-[11px] select-all">{link.link}</code>
        </p>
      )}
    </div>
  );
}
