import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, ask, Refusal } from "../../api/client";
import { keys } from "../../api/keys";
import { ago, date } from "../../ui/format";
import { Empty, ErrorNote } from "../../ui/parts";
import { Th } from "../../ui/Th";
import { tell, tellError } from "../../ui/toast";

const SCOPES: [string, string][] = [
  ["read", "read everything of mine"],
  ["research", "and change strategies, runs, replays"],
  ["paper", "and trade on paper"],
  ["trade", "and trade at a broker"],
];

/** Tokens for scripts: what each may do and until when. */
export function AccessPage() {
  const cache = useQueryClient();
  const tokens = useQuery({ queryKey: keys.tokens(), queryFn: () => ask(api.GET("/api/tokens")) });
  const [name, setName] = useState("");
  const [scope, setScope] = useState("read");
  const [days, setDays] = useState("30");
  const [text, setText] = useState<string | null>(null);
  const again = () => cache.invalidateQueries({ queryKey: keys.tokens() });
  const make = useMutation({
    mutationFn: () => ask(api.POST("/api/tokens", { body: { name, scope, days: Number(days) || 0 } })),
    onSuccess: (made) => {
      setText(made.text);
      setName("");
      again();
    },
  });
  const revoke = useMutation({
    mutationFn: (id: number) =>
      ask(api.DELETE("/api/tokens/{token_id}", { params: { path: { token_id: id } } })),
    onSuccess: () => {
      tell("The token is revoked; nothing can be done with it any more.");
      again();
    },
    onError: tellError,
  });
  function submit(event: FormEvent) {
    event.preventDefault();
    make.mutate();
  }
  return (
    <div className="mx-auto max-w-3xl px-4.5 py-3">
      <h1 className="mb-2 text-figure font-semibold">Access for scripts</h1>
      <p className="mb-3 text-soft">
        The HTTP API does everything the screens do. A script sends its token as{" "}
        <code>Authorization: Bearer …</code>. Arming at a broker asks for your password and is for no script.
      </p>
      <form
        className="card mb-3 flex flex-wrap items-end gap-3 px-3 py-2"
        aria-label="New token"
        onSubmit={submit}
        noValidate
      >
        <label className="text-xs text-soft">
          For what
          <input
            className="field mt-0.5 block w-44"
            value={name}
            maxLength={60}
            onChange={(e) => setName(e.target.value)}
          />
        </label>
        <label className="text-xs text-soft">
          May
          <select className="field mt-0.5 block" value={scope} onChange={(e) => setScope(e.target.value)}>
            {SCOPES.map(([key, words]) => (
              <option key={key} value={key}>
                {words}
              </option>
            ))}
          </select>
        </label>
        <label className="text-xs text-soft">
          Days
          <input
            className="field number mt-0.5 block w-16"
            value={days}
            onChange={(e) => setDays(e.target.value)}
          />
        </label>
        <button type="submit" className="button primary" disabled={make.isPending}>
          Make a token
        </button>
        {make.error instanceof Refusal && (
          <p role="alert" className="w-full text-loss">
            {make.error.message}
          </p>
        )}
      </form>
      {text && (
        <p className="mb-3 border-l-2 border-ink bg-mark px-3 py-2" role="status">
          Copy it now, it is shown once: <code className="break-all select-all">{text}</code>
        </p>
      )}
      <ErrorNote error={tokens.error} onRetry={() => tokens.refetch()} />
      <section className="card">
        {tokens.data?.length === 0 && <Empty title="No token." />}
        {tokens.data && tokens.data.length > 0 && (
          <table className="plain" aria-label="Tokens">
            <thead>
              <tr>
                <Th>For</Th>
                <Th>May</Th>
                <Th>Until</Th>
                <Th>Last used</Th>
                <Th aria-label="Actions" />
              </tr>
            </thead>
            <tbody>
              {tokens.data.map((token) => (
                <tr key={token.id} className={token.expired ? "text-soft" : ""}>
                  <td>{token.name}</td>
                  <td>{token.scopes.join(", ")}</td>
                  <td>{token.expired ? "expired" : date(token.expires_at)}</td>
                  <td>{token.used_at ? ago(token.used_at) : "never"}</td>
                  <td className="number">
                    <button type="button" className="link" onClick={() => revoke.mutate(token.id)}>
                      Revoke
                    </button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </section>
    </div>
  );
}
