// What is one's own: the password, and where one is signed in.
import { useState } from "react";
import { api, http } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { useLimits, useNow, useSession, useZone } from "../../parts/session";
import { moment } from "../../parts/time";

export function Account() {
  const session = useSession();
  return (
    <div className="overflow-auto px-5 py-4">
      <h1 className="mb-4">
        <b>{session.person?.name}.</b> {session.person?.email}, {session.person?.role}.
      </h1>
      <Password />
      <SignedIn />
    </div>
  );
}

function Password() {
  const least = useLimits().password;
  const [old, setOld] = useState("");
  const [password, setPassword] = useState("");
  const change = useWrite({
    write: () => http.PUT("/me/password", { body: { old, password } }),
    changes: [keys.signedIn, keys.tokens],
    saved: "The password is changed. You are signed out elsewhere, and your tokens have ended.",
    after: () => {
      setOld("");
      setPassword("");
    },
    quiet: true,
  });
  return (
    <form
      aria-label="Change your password"
      onSubmit={(e) => {
        e.preventDefault();
        void change.do();
      }}
    >
      <div className="flex flex-wrap items-end gap-3">
        <Secret label="Password now" kind="current-password" value={old} onChange={setOld} />
        <Secret
          label={`New password, ${least} characters or more`}
          kind="new-password"
          value={password}
          onChange={setPassword}
        />
        <button type="submit" className="act-plain" disabled={change.busy}>
          Change the password
        </button>
      </div>
      <p role="alert" className="mt-1 min-h-5 text-brick">
        {change.failed?.title}
      </p>
    </form>
  );
}

type SecretProps = {
  label: string;
  kind: "current-password" | "new-password";
  value: string;
  onChange: (value: string) => void;
};

function Secret({ label, kind, value, onChange }: SecretProps) {
  return (
    <label className="flex flex-col gap-1">
      {label}
      <input
        className="field w-64"
        type="password"
        required
        autoComplete={kind}
        value={value}
        onChange={(e) => onChange(e.target.value)}
      />
    </label>
  );
}

function SignedIn() {
  const q = api.useQuery("get", "/me/sessions");
  const now = useNow(60000);
  const zone = useZone();
  const elsewhere = useWrite({
    write: () => http.DELETE("/me/sessions"),
    changes: [keys.signedIn],
    saved: (d: { ended: number }) =>
      d.ended === 0 ? "You were signed in nowhere else." : "You are signed in here alone.",
  });
  if (!q.data) return <Await query={q} />;
  return (
    <>
      <h2 className="mt-5 mb-2 font-semibold">Where you are signed in</h2>
      <table className="tbl max-w-4xl">
        <thead>
          <tr>
            <th>Browser</th>
            <th>From</th>
            <th>Since</th>
            <th>Last used</th>
          </tr>
        </thead>
        <tbody>
          {q.data.map((s) => (
            <tr key={s.id}>
              <td>{s.here ? <b>This one</b> : <span title={s.agent}>{browser(s.agent)}</span>}</td>
              <td>{s.network}</td>
              <td>{moment(s.since, zone, now)}</td>
              <td>{moment(s.seenAt, zone, now)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {q.data.length > 1 && (
        <button type="button" className="act-plain mt-3" disabled={elsewhere.busy} onClick={() => void elsewhere.do()}>
          Sign out everywhere but here
        </button>
      )}
    </>
  );
}

// What a browser calls itself is long; the first part with a version that is its own says enough.
function browser(agent: string): string {
  const parts = agent.match(/[A-Za-z]+\/[\d.]+/g) ?? [];
  const own = parts.filter((p) => !/^(Mozilla|AppleWebKit|Gecko|Safari|Version|KHTML)\//.test(p)).pop() ?? parts.pop();
  const on = /\(([^;)]+)/.exec(agent)?.[1];
  return own ? `${own.replace("/", " ")}${on ? `, ${on}` : ""}` : agent.slice(0, 60) || "a browser that does not say";
}
