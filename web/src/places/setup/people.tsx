import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, http, type Schemas, words } from "../../api/client";
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
  const client = useQueryClient();
  const [form, setForm] = useState({ name: "", email: "", role: "editor" as Role });
  const [link, setLink] = useState<{ name: string; link: string }>();
  const [error, setError] = useState("");
  if (!q.data) return null;
  const change = async (person: string, body: { role?: Role; disabled?: boolean }) => {
    const { error } = await http.PATCH("/people/{person}", { params: { path: { person } }, body });
    if (error) toast.error(words(error));
    await client.invalidateQueries();
  };
  const add = async (e: React.FormEvent) => {
    e.preventDefault();
    setError("");
    const { data, error } = await http.POST("/people", { body: form });
    if (error) return setError(words(error));
    setLink({ name: data.person.name, link: data.link });
    setForm({ name: "", email: "", role: "editor" });
    await client.invalidateQueries();
  };
  const again = async (p: Schemas["Person"]) => {
    const { data, error } = await http.POST("/people/{person}/link", { params: { path: { person: p.id } } });
    if (error) return void toast.error(words(error));
    setLink({ name: p.name, link: data.link });
  };
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
                  onChange={(e) => change(p.id, { role: e.target.value as Role })}
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
                    <button type="button" className="link" onClick={() => again(p)}>
                      new link
                    </button>{" "}
                    <button type="button" className="link ml-3" onClick={() => change(p.id, { disabled: !p.disabled })}>
                      {p.disabled ? "let in again" : "let out"}
                    </button>
                  </>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <form onSubmit={add} className="mt-4 flex flex-wrap items-end gap-3">
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
        <button type="submit" className="act-plain">
          Add this person
        </button>
      </form>
      <p role="alert" className="mt-2 text-brick">
        {error}
      </p>
      {link && (
        <p className="mt-2">
          Give {link.name} this link; it works once, for a week: <code className="font-mono text-[11px] select-all">{link.link}</code>
        </p>
      )}
    </div>
  );
}
