import { useState } from "react";
import { http } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";

export function SignIn() {
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const signIn = useWrite({ write: () => http.POST("/session", { body: { email, password } }), changes: [keys.session], quiet: true });
  return (
    <main className="mx-auto flex h-full max-w-sm flex-col justify-center px-6">
      <h1 className="mb-1">
        <b>Nivot.</b> Sign in to see what goes out today.
      </h1>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          void signIn.do();
        }}
        className="mt-5 flex flex-col gap-3"
      >
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
          {signIn.failed?.title}
        </p>
        <button type="submit" className="act self-start" disabled={signIn.busy}>
          Sign in
        </button>
      </form>
    </main>
  );
}
