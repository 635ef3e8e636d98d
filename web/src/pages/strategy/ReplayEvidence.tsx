import { type FormEvent, useState } from "react";
import { Link, useNavigate } from "react-router";
import { Refusal } from "../../api/client";
import { useReplays, useTerms } from "../../api/queries";
import { useRemoveReplay, useStartReplay } from "../../api/replay";
import { DateField } from "../../ui/DateField";
import { ago, number, plural } from "../../ui/format";
import { Empty, ErrorNote, Skeleton } from "../../ui/parts";
import { plainNumber } from "../../ui/read";
import { tell, tellError } from "../../ui/toast";
import type { Strategy } from "./types";

/** The strategy's replay sessions, and a new one from any date. */
export function ReplayEvidence({ strategy }: { strategy: Strategy }) {
  const terms = useTerms(strategy.underlying);
  const replays = useReplays(strategy.id);
  const remove = useRemoveReplay(strategy.id);
  return (
    <div className="flex flex-col gap-3">
      <NewSession strategy={strategy} />
      <ErrorNote error={replays.error} onRetry={() => replays.refetch()} />
      {replays.isPending && <Skeleton className="h-40" />}
      {replays.data?.length === 0 && (
        <div className="card">
          <Empty title="No replay yet.">
            Live through a trade again: open one in{" "}
            <Link className="link" to={`/strategies/${strategy.id}/backtest`}>
              Backtest
            </Link>{" "}
            and press Replay, or start with an empty account at any date above.
          </Empty>
        </div>
      )}
      {replays.data?.map((session) => (
        <article key={session.id} className="card flex gap-4 px-4 py-3">
          <div className="min-w-0 flex-1">
            <Link to={`/replays/${session.id}`} className="font-serif text-section font-semibold">
              {session.name}
            </Link>
            <p className="text-xs text-soft">
              its clock stands at {session.shown} · {plural(session.open_legs, "open leg")}
              {session.run_trade ? ` · from trade ${session.run_trade}` : ""} · changed{" "}
              {ago(session.updated_at)}
            </p>
            {session.note && <p className="mt-1 font-serif text-lead whitespace-pre-line">{session.note}</p>}
          </div>
          <span className="text-soft">
            {number(session.cash)} {terms.currency}
          </span>
          <button
            type="button"
            className="link self-start"
            onClick={() =>
              remove.mutate(
                { id: session.id, restore: false },
                {
                  onSuccess: () =>
                    tell(`${session.name} is deleted.`, {
                      label: "Undo",
                      run: () => remove.mutate({ id: session.id, restore: true }, { onError: tellError }),
                    }),
                  onError: tellError,
                },
              )
            }
          >
            Delete
          </button>
        </article>
      ))}
    </div>
  );
}

function NewSession({ strategy }: { strategy: Strategy }) {
  const start = useStartReplay();
  const go = useNavigate();
  const terms = useTerms(strategy.underlying);
  const [typed, setTyped] = useState<string | null>(null);
  const at = typed ?? (terms.last && `${terms.last}T10:00`);
  const [cash, setCash] = useState("50000");
  function submit(event: FormEvent) {
    event.preventDefault();
    start.mutate(
      { strategy: strategy.id, at, cash: plainNumber(cash) },
      { onSuccess: (session) => go(`/replays/${session.id}`) },
    );
  }
  return (
    <form onSubmit={submit} className="flex flex-wrap items-center gap-3" noValidate>
      <h2 className="font-sans text-head font-semibold">Replay</h2>
      <label className="flex items-center gap-1.5 text-soft">
        from
        <DateField time value={at} onChange={setTyped} />
      </label>
      <label className="flex items-center gap-1.5 text-soft">
        with {terms.currency}
        <input className="field number w-24" value={cash} onChange={(event) => setCash(event.target.value)} />
      </label>
      <button type="submit" className="button primary ml-auto" disabled={start.isPending}>
        Start a session
      </button>
      {start.error instanceof Refusal && (
        <p role="alert" className="w-full text-loss">
          {start.error.message}
        </p>
      )}
    </form>
  );
}
