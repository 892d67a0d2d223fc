import { getRouteApi, useNavigate } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";
import { api, http } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";

const page = getRouteApi("/welcome/$token");

// What a one-time link opens: who one is, and a password.
export function Welcome(): ReactNode {
  const { token } = page.useParams();
  const link = api.useQuery("get", "/links/{token}", { params: { path: { token } } }, { retry: false });
  const session = api.useQuery("get", "/session");
  return (
    <Await query={session}>
      {(s) => <Await query={link}>{(l) => <Begin token={token} link={l} least={s.limits.password} />}</Await>}
    </Await>
  );
}

type BeginProps = {
  token: string;
  link: { purpose: "first-start" | "invite" | "forgotten"; name: string; email: string };
  least: number;
};

function Begin({ token, link, least }: BeginProps) {
  const [form, setForm] = useState({ name: link.name, email: link.email, password: "" });
  const navigate = useNavigate();
  const begin = useWrite({
    write: () => http.POST("/links/{token}", { params: { path: { token } }, body: form }),
    changes: [keys.session],
    after: () => void navigate({ to: link.purpose === "first-start" ? "/start" : "/" }),
    quiet: true,
  });
  const first = link.purpose === "first-start";
  const field = (key: keyof typeof form, label: string, type: string, more = {}) => (
    <label className="flex flex-col gap-1">
      {label}
      <input
        className="field"
        type={type}
        required
        value={form[key]}
        onChange={(e) => setForm({ ...form, [key]: e.target.value })}
        {...more}
      />
    </label>
  );
  return (
    <main className="mx-auto flex h-full max-w-sm flex-col justify-center px-6">
      <h1>
        {first ? (
          <>
            <b>Welcome.</b> You are the first here, and so the administrator.
          </>
        ) : (
          <>
            <b>Welcome.</b> Choose a password and you are in.
          </>
        )}
      </h1>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          void begin.do();
        }}
        className="mt-5 flex flex-col gap-3"
      >
        {field("name", "Name", "text", { autoComplete: "name" })}
        {field("email", "Email address", "email", { autoComplete: "username" })}
        {field("password", `Password, ${least} characters or more`, "password", {
          minLength: least,
          autoComplete: "new-password",
        })}
        <p role="alert" className="min-h-5 text-brick">
          {begin.failed?.title}
        </p>
        <button type="submit" className="act self-start" disabled={begin.busy}>
          Sign in
        </button>
      </form>
    </main>
  );
}
