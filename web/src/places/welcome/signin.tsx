import { useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { base } from "../../api/base";
import { http, type Session } from "../../api/client";
import { connection } from "../../api/connection";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";

/** The page of whoever is not signed in. */
export function SignIn() {
  return (
    <main className="mx-auto flex h-full max-w-sm flex-col justify-center px-6">
      <h1 className="mb-1">
        <b>Nivot.</b> Sign in to see what goes out today.
      </h1>
      <SignInForm />
    </main>
  );
}

/** Over a page whose session has ended: it goes on where it was. */
export function SignInAgain({ session }: { session: Session }) {
  const client = useQueryClient();
  const known = session.person?.email ?? "";
  return (
    <Dialog.Root open>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-50 bg-ink/25" />
        <Dialog.Content
          className="pop fixed top-24 left-1/2 z-50 w-[400px] max-w-[94vw] -translate-x-1/2 p-6"
          onEscapeKeyDown={(e) => e.preventDefault()}
          onInteractOutside={(e) => e.preventDefault()}
        >
          <Dialog.Title className="font-letter text-lg font-semibold">You are signed out</Dialog.Title>
          <Dialog.Description className="mt-1">
            Sign in again to go on where you were. What you typed is still here, and is saved after that.
          </Dialog.Description>
          <SignInForm
            known={known}
            onDone={async (email) => {
              // Somebody else must not go on with what was another person's.
              if (email.trim().toLowerCase() !== known.toLowerCase()) return window.location.assign(`${base}/`);
              connection.signedIn();
              await client.invalidateQueries();
            }}
          />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function SignInForm({ known = "", onDone }: { known?: string; onDone?: (email: string) => void | Promise<void> }) {
  const [email, setEmail] = useState(known);
  const [password, setPassword] = useState("");
  const signIn = useWrite({
    write: () => http.POST("/session", { body: { email, password } }),
    changes: [keys.session],
    after: () => onDone?.(email),
    quiet: true,
    signsIn: true,
  });
  const forgot = useWrite({
    write: () => http.POST("/session/forgotten", { body: { email } }),
    quiet: true,
    signsIn: true,
  });
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        void signIn.do();
      }}
      className="mt-5 flex flex-col gap-3"
    >
      <label className="flex flex-col gap-1">
        Email address
        <input
          className="field"
          type="email"
          autoComplete="username"
          required
          value={email}
          onChange={(e) => setEmail(e.target.value)}
        />
      </label>
      <label className="flex flex-col gap-1">
        Password
        <input
          className="field"
          type="password"
          autoComplete="current-password"
          required
          // eslint-disable-next-line jsx-a11y/no-autofocus -- the address is known; the password is all that is asked
          autoFocus={known !== ""}
          value={password}
          onChange={(e) => setPassword(e.target.value)}
        />
      </label>
      <p role="alert" className="min-h-5 text-brick">
        {signIn.failed?.title}
      </p>
      <span className="flex items-baseline gap-4">
        <button type="submit" className="act" disabled={signIn.busy}>
          {signIn.busy ? "Signing in …" : "Sign in"}
        </button>
        <button type="button" className="link" disabled={forgot.busy} onClick={() => void forgot.do()}>
          Forgotten your password?
        </button>
      </span>
      <p role="status" className="min-h-5">
        {forgot.failed?.title ??
          (forgot.done &&
            "If the address is known here, a link to set a new password is on its way to it. If none comes, ask an administrator for one.")}
      </p>
    </form>
  );
}
