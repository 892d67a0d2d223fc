import { useState } from "react";
import { api, http, type Schemas } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { Confirm } from "../../parts/confirm";
import { longestName } from "../../parts/name";
import { Restorable } from "../../parts/restorable";
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
      http.PATCH("/people/{person}", {
        params: { path: { person: v.person } },
        body: { role: v.role, disabled: v.disabled },
      }),
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
  const [asking, setAsking] = useState<Schemas["Person"]>();
  const back = (p: Schemas["Person"]) => http.POST("/people/{person}/restore", { params: { path: { person: p.id } } });
  const restore = useWrite<Schemas["Person"]>({
    write: back,
    changes: [keys.people],
    saved: (_, p) => `${p.name} may sign in again.`,
  });
  const remove = useWrite<Schemas["Person"]>({
    write: (p) => http.DELETE("/people/{person}", { params: { path: { person: p.id } } }),
    changes: [keys.people],
    saved: (_, p) => `${p.name} is deleted. For 30 days they can be restored, below.`,
    undo: (_, p) => back(p),
  });
  if (!q.data) return <Await query={q} />;
  const here = q.data.filter((p) => !p.deletedAt);
  const deleted = q.data.filter((p) => p.deletedAt);
  return (
    <div className="overflow-auto px-5 py-4">
      <h1 className="mb-3">
        <b>People.</b> {count(here.length, "person may", "people may")} sign in.
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
          {here.map((p) => (
            <tr key={p.id} className={p.disabled ? "text-ink-2" : ""}>
              <td>
                {p.name}
                {p.id === session.person?.id && " (you)"}
              </td>
              <td>{p.email}</td>
              <td>
                <RoleOf
                  key={p.role}
                  person={p}
                  own={p.id === session.person?.id}
                  busy={change.busy}
                  onSave={(role) => void change.do({ person: p.id, role })}
                />
              </td>
              <td>
                {p.signedUp ? "" : "has not signed in yet"}
                {p.disabled && " blocked"}
              </td>
              <td className="whitespace-nowrap">
                {p.id !== session.person?.id && (
                  <>
                    <button type="button" className="link" onClick={() => void again.do(p)}>
                      New link
                    </button>{" "}
                    <button
                      type="button"
                      className="link ml-3"
                      onClick={() => void change.do({ person: p.id, disabled: !p.disabled })}
                    >
                      {p.disabled ? "Unblock" : "Block"}
                    </button>
                    <button
                      type="button"
                      className="link ml-3 text-brick!"
                      aria-label={`Delete ${p.name}`}
                      onClick={() => setAsking(p)}
                    >
                      Delete …
                    </button>
                  </>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {asking && (
        <Confirm
          title={`Delete ${asking.name}?`}
          act={`Delete ${asking.name}`}
          onNo={() => setAsking(undefined)}
          onYes={() => {
            setAsking(undefined);
            void remove.do(asking);
          }}
        >
          <p>
            They are signed out and cannot sign in.{" "}
            {(asking.tokens ?? 0) > 0 &&
              `${count(asking.tokens ?? 0, "program")} that ${asking.tokens === 1 ? "comes" : "come"} in their name get no answer any more. `}
            {(asking.views ?? 0) > 0 &&
              `${count(asking.views ?? 0, "view")} of theirs ${asking.views === 1 ? "stays" : "stay"}. `}
            What they did stays in every history, with their name.
          </p>
          <p className="mt-1 text-ink-2">For 30 days they can be restored.</p>
        </Confirm>
      )}
      <Restorable
        title="Deleted, and kept for 30 days"
        label="Deleted people"
        list={deleted}
        of={(p) => ({ id: p.id, name: p.name, by: p.deletedBy ?? "", at: p.deletedAt ?? "" })}
        more={(p) => p.email}
        busy={restore.busy}
        onRestore={(p) => void restore.do(p)}
      />
      <form
        onSubmit={(e) => {
          e.preventDefault();
          void add.do();
        }}
        className="mt-4 flex flex-wrap items-end gap-3"
      >
        <label className="flex flex-col gap-1">
          Name
          <input
            className="field w-48"
            required
            maxLength={longestName}
            value={form.name}
            onChange={(e) => setForm({ ...form, name: e.target.value })}
          />
        </label>
        <label className="flex flex-col gap-1">
          Address
          <input
            className="field w-64"
            required
            maxLength={254}
            value={form.email}
            onChange={(e) => setForm({ ...form, email: e.target.value })}
          />
        </label>
        <label className="flex flex-col gap-1">
          Role
          <select
            className="field"
            value={form.role}
            onChange={(e) => setForm({ ...form, role: e.target.value as Role })}
          >
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
          Give {link.name} this link; it works once, for a week:{" "}
          <code className="font-mono text-[11px] select-all">{link.link}</code>
        </p>
      )}
    </div>
  );
}

// A role changes once it is saved, not while one looks through the list.
type RoleProps = { person: Schemas["Person"]; own: boolean; busy: boolean; onSave: (r: Role) => void };
function RoleOf({ person: p, own, busy, onSave }: RoleProps) {
  const [role, setRole] = useState(p.role);
  return (
    <span className="flex items-center gap-2">
      <select
        className="field"
        aria-label={`Role of ${p.name}`}
        value={role}
        disabled={own}
        onChange={(e) => setRole(e.target.value as Role)}
      >
        {roles.map((r) => (
          <option key={r.id} value={r.id}>
            {r.id}: {r.may}
          </option>
        ))}
      </select>
      {role !== p.role && (
        <>
          <button type="button" className="act-plain" disabled={busy} onClick={() => onSave(role)}>
            Save
          </button>
          <button type="button" className="link" onClick={() => setRole(p.role)}>
            Cancel
          </button>
        </>
      )}
    </span>
  );
}
