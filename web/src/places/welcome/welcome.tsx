import { useQueryClient } from "@tanstack/react-query";
import { useNavigate, useParams } from "@tanstack/react-router";
import { useEffect, useState } from "react";
import { api, http, words } from "../../api/client";

// What a one-time link opens: who one is, and a password.
export function Welcome() {
  const { token } = useParams({ strict: false }) as { token: string };
  const link = api.useQuery("get", "/links/{token}", { params: { path: { token } } }, { retry: false });
  const [form, setForm] = useState({ name: "", email: "", password: "" });
  const [error, setError] = useState("");
  const client = useQueryClient();
  const navigate = useNavigate();
  useEffect(() => {
    if (link.data) setForm((f) => ({ ...f, name: link.data.name, email: link.data.email }));
  }, [link.data]);
  if (link.error)
    return (
      <main className="mx-auto mt-40 max-w-md px-6">
        <h1>{words(link.error)}</h1>
      </main>
    );
  if (!link.data) return null;
  const first = link.data.purpose === "first-start";
  const submit = async (e: React.FormEvent) => {
    e.preventDefault();
    const { error } = await http.POST("/links/{token}", { params: { path: { token } }, body: form });
    if (error) return setError(words(error));
    await client.invalidateQueries();
    void navigate({ to: "/" });
  };
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
      <form onSubmit={submit} className="mt-5 flex flex-col gap-3">
        {field("name", "Name", "text", { autoComplete: "name" })}
        {field("email", "Email address", "email", { autoComplete: "username" })}
        {field("password", "Password, 10 characters or more", "password", { minLength: 10, autoComplete: "new-password" })}
        <p role="alert" className="min-h-5 text-brick">
          {error}
        </p>
        <button type="submit" className="act self-start">
          Sign in
        </button>
      </form>
    </main>
  );
}
