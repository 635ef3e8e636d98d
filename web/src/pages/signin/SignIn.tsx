import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, ask } from "../../api/client";
import { keys } from "../../api/keys";
import { ErrorNote } from "../../ui/parts";

export function SignIn() {
  const cache = useQueryClient();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [error, setError] = useState<unknown>(null);
  const [busy, setBusy] = useState(false);

  async function submit(event: FormEvent) {
    event.preventDefault();
    setBusy(true);
    setError(null);
    try {
      cache.setQueryData(keys.me(), await ask(api.POST("/api/sign-in", { body: { name, password } })));
    } catch (problem) {
      setError(problem);
      setBusy(false);
    }
  }

  return (
    <main className="mx-auto mt-[18vh] w-85">
      <h1 className="mb-1 text-sign font-semibold">strell</h1>
      <p className="mb-5 text-soft">Rules, their evidence, and the trades they make.</p>
      <form onSubmit={submit} className="card flex flex-col gap-3 p-5">
        <label className="flex flex-col gap-1">
          Name
          <input
            className="field"
            autoComplete="username"
            autoFocus
            required
            value={name}
            onChange={(event) => setName(event.target.value)}
          />
        </label>
        <label className="flex flex-col gap-1">
          Password
          <input
            className="field"
            type="password"
            autoComplete="current-password"
            required
            value={password}
            onChange={(event) => setPassword(event.target.value)}
          />
        </label>
        <ErrorNote error={error} />
        <button type="submit" className="button primary justify-center" disabled={busy}>
          Sign in
        </button>
      </form>
    </main>
  );
}
