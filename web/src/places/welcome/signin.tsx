import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { http, words } from "../../api/client";

export function SignIn() {
  const client = useQueryClient();
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const [error, setError] = useState("");
  const [busy, setBusy] = useState(false);
  const submit = async (e: React.FormEvent) => {
    e.preventDefault();
    setBusy(true);
    const { error } = await http.POST("/session", { body: { email, password } });
    setBusy(false);
    if (error) setError(words(error));
    else await client.invalidateQueries();
  };
  return (
    <main className="mx-auto flex h-full max-w-sm flex-col justify-center px-6">
      <h1 className="mb-1">
        <b>Nivot.</b> Sign in to see what goes out today.
      </h1>
      <form onSubmit={submit} className="mt-5 flex flex-col gap-3">
        <label className="flex flex-col gap-1">
          Email address
          <input className="field" type="email" autoComplete="username" required value={email} onChange={(e) => setEmail(e.target.value)} />
        </label>
        <label className="flex flex-col gap-1">
          Password
          <input
            className="field"
            type="password"
            autoComplete="current-password"
            required
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </label>
        <p role="alert" className="min-h-5 text-brick">
          {error}
        </p>
        <button type="submit" className="act self-start" disabled={busy}>
          Sign in
        </button>
      </form>
    </main>
  );
}
