import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { Refusal } from "../../api/client";
import {
  type Deployment,
  useAccounts,
  useChecklist,
  useCompare,
  useDeployments,
  usePromote,
} from "../../api/desk";
import { day, plural } from "../../ui/format";
import { Empty, ErrorNote, Skeleton } from "../../ui/parts";
import { plainNumber } from "../../ui/read";
import { Th } from "../../ui/Th";
import { tell } from "../../ui/toast";
import { RulesOfOpen } from "../desk/Deployments";
import { priceWords } from "../desk/Orders";
import { useArming } from "../desk/useArming";
import { tradedBeside } from "./document";
import type { Strategy } from "./types";

/** This strategy's deployments: promote it, arm it, and compare what it did with a backtest. */
export function PaperEvidence({ strategy }: { strategy: Strategy }) {
  const deployments = useDeployments(strategy.id);
  const alive = deployments.data?.filter((row) => !row.ended) ?? [];
  const ended = deployments.data?.filter((row) => row.ended) ?? [];
  return (
    <div className="flex flex-col gap-3">
      <Promote strategy={strategy} />
      <ErrorNote error={deployments.error} onRetry={() => deployments.refetch()} />
      {deployments.isPending && <Skeleton className="h-40" />}
      {deployments.data?.length === 0 && (
        <div className="card">
          <Empty title="Not on paper yet.">
            Promoted to an account and armed, the rules decide by themselves at their times on today's prices.
            What they decide and why stands in the journal.
          </Empty>
        </div>
      )}
      {[...alive, ...ended].map((row) => (
        <DeploymentCard key={row.id} row={row} />
      ))}
    </div>
  );
}

function Promote({ strategy }: { strategy: Strategy }) {
  const accounts = useAccounts();
  const [chosen, setChosen] = useState<number | null>(null);
  const fits = accounts.data?.find((row) => row.symbol === strategy.underlying) ?? accounts.data?.[0];
  const account = chosen ?? fits?.id;
  const kind = accounts.data?.find((row) => row.id === account)?.kind;
  // one account more for every other underlying that its entries trade
  const others = tradedBeside(strategy.document).map((symbol) => ({
    symbol,
    rows: accounts.data?.filter((row) => row.symbol === symbol && row.kind === kind) ?? [],
  }));
  const [besides, setBesides] = useState<Record<string, number>>({});
  const beside = others.flatMap(({ symbol, rows }) => besides[symbol] ?? rows[0]?.id ?? []);
  const checklist = useChecklist(strategy.id, account, beside);
  const promote = usePromote(strategy.id);
  const [size, setSize] = useState("1");
  const [lookedAt, setLookedAt] = useState(false);
  const [lots, setLots] = useState("");
  const [loss, setLoss] = useState("");
  const plain = plainNumber;
  if (accounts.data?.length === 0)
    return (
      <p className="text-soft">
        There is no account to promote to.{" "}
        <Link className="link" to="/desk">
          Open one at the desk
        </Link>
      </p>
    );
  function submit(event: FormEvent) {
    event.preventDefault();
    promote.mutate(
      {
        account: account!,
        beside,
        size: Number(size) || 0,
        limits: {
          ...(plain(lots) ? { lots: plain(lots) } : {}),
          ...(plain(loss) ? { day_loss: plain(loss) } : {}),
        },
        looked_at: lookedAt,
      },
      {
        onSuccess: (made) => {
          setLookedAt(false);
          tell(`Promoted to ${made.account_name}. It is not armed yet.`);
        },
      },
    );
  }
  return (
    <form className="card px-4 py-2.5" aria-label="Promote" onSubmit={submit} noValidate>
      <div className="flex flex-wrap items-center gap-3">
        <h2 className="font-sans text-head font-semibold">Promote revision {strategy.revision}</h2>
        <label className="flex items-center gap-1.5 text-soft">
          to
          <select className="field" value={account ?? ""} onChange={(e) => setChosen(Number(e.target.value))}>
            {accounts.data?.map((row) => (
              <option key={row.id} value={row.id}>
                {row.name} · {row.kind === "paper" ? "paper" : "practice broker"}
              </option>
            ))}
          </select>
        </label>
        {others.map(({ symbol, rows }) => (
          <label key={symbol} className="flex items-center gap-1.5 text-soft">
            {symbol} in
            <select
              className="field"
              aria-label={`Account for ${symbol}`}
              value={besides[symbol] ?? rows[0]?.id ?? ""}
              onChange={(e) => setBesides({ ...besides, [symbol]: Number(e.target.value) })}
            >
              {rows.length === 0 && <option value="">no account yet</option>}
              {rows.map((row) => (
                <option key={row.id} value={row.id}>
                  {row.name}
                </option>
              ))}
            </select>
          </label>
        ))}
        <label className="flex items-center gap-1.5 text-soft">
          size
          <input className="field number w-14" value={size} onChange={(e) => setSize(e.target.value)} /> times
          the lots of the rules
        </label>
        <label className="flex items-center gap-1.5 text-soft">
          at most
          <input
            className="field number w-14"
            placeholder="–"
            aria-label="Lots an order at most"
            value={lots}
            onChange={(e) => setLots(e.target.value)}
          />{" "}
          lots an order
        </label>
        <label className="flex items-center gap-1.5 text-soft">
          and a loss of
          <input
            className="field number w-20"
            placeholder="–"
            aria-label="Loss of its positions at most"
            value={loss}
            onChange={(e) => setLoss(e.target.value)}
          />
        </label>
        <button
          type="submit"
          className="button primary ml-auto"
          disabled={promote.isPending || account === undefined}
        >
          Promote
        </button>
      </div>
      <ul className="mt-2 grid grid-cols-2 gap-x-6 gap-y-0.5" aria-label="Checklist">
        {checklist.data?.map((item) => (
          <li key={item.id} className={item.ok ? "" : item.required ? "text-loss" : "text-soft"}>
            <span aria-hidden="true">{item.ok ? "✓" : item.required ? "✗" : "–"}</span> {item.text}
            <span className="sr-only">
              {item.ok ? ", so" : item.required ? ", missing" : ", not required"}
            </span>
          </li>
        ))}
        <li>
          <label className="flex items-center gap-1.5">
            <input type="checkbox" checked={lookedAt} onChange={(e) => setLookedAt(e.target.checked)} />I
            looked at the run and its trades
          </label>
        </li>
      </ul>
      {promote.error instanceof Refusal && (
        <p role="alert" className="mt-1 text-loss">
          {promote.error.message}
        </p>
      )}
    </form>
  );
}

function DeploymentCard({ row }: { row: Deployment }) {
  const arming = useArming();
  const [session, setSession] = useState<string | null>(null);
  return (
    <article className="card px-4 py-2.5" aria-label={`Deployment in ${row.account_name}`}>
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <Link className="font-serif text-section font-semibold" to={`/desk?account=${row.account}`}>
          {row.account_name}
        </Link>
        {row.beside.map((one) => (
          <Link key={one.account} className="link" to={`/desk?account=${one.account}`}>
            {one.symbol} in {one.name}
            {one.stands && !row.ended && ", whose market stands"}
          </Link>
        ))}
        <span className={`pill ${row.account_kind}-pill`}>
          {row.account_kind === "paper" ? "paper" : "practice broker"}
        </span>
        <b className={`font-semibold ${row.armed ? "text-gain" : "text-soft"}`}>
          {row.ended ? "ended" : row.armed ? "armed" : "disarmed"}
        </b>
        <span className="text-soft">
          revision {row.revision}
          {row.revision < row.latest && `, the latest is ${row.latest}`} · size {row.size} ·{" "}
          {plural(row.open_trades, "open trade")}
          {row.next && !row.ended && ` · next decision ${row.next}`}
        </span>
        {!row.ended && (
          <span className="ml-auto flex gap-3">
            <button
              type="button"
              className="button small"
              onClick={() => (row.armed ? arming.disarm(row) : arming.arm(row))}
            >
              {row.armed ? "Disarm" : "Arm"}
            </button>
            <button type="button" className="link" onClick={() => arming.end(row)}>
              End
            </button>
          </span>
        )}
      </div>
      {row.says && <p className="mt-1 font-serif text-lead">{row.says}</p>}
      <p className="mt-1 flex flex-wrap items-center gap-2 text-soft">
        <Link className="link" to={`/journal?deployment=${row.id}`}>
          Journal
        </Link>
        {row.sessions.length > 0 && "· beside a backtest of"}
        {row.sessions.slice(0, 8).map((date) => (
          <button
            key={date}
            type="button"
            className="pill"
            aria-pressed={session === date}
            onClick={() => setSession(session === date ? null : date)}
          >
            {day(date)}
          </button>
        ))}
      </p>
      {row.open_trades > 0 && !row.ended && <RulesOfOpen deployment={row.id} />}
      {session && <Compared deployment={row.id} session={session} />}
      {arming.window}
    </article>
  );
}

/** Decision by decision and fill by fill, the first difference named. */
function Compared({ deployment, session }: { deployment: number; session: string }) {
  const found = useCompare(deployment, session);
  if (found.error) return <ErrorNote error={found.error} />;
  const data = found.data;
  if (!data) return <Skeleton className="mt-2 h-24" />;
  return (
    <section className="mt-2" aria-label="Beside a backtest">
      <p className="border-l-2 border-ink bg-shade px-3 py-1.5 font-serif text-lead">
        {data.first ??
          (data.rows.length === 0
            ? `Nothing was decided until ${data.until}, here and there.`
            : `Nothing differs until ${data.until}: ${plural(data.decisions, "decision")} and ${plural(data.fills.length, "fill")} are the same.`)}
      </p>
      <table className="plain mt-1">
        <thead>
          <tr>
            <Th>At</Th>
            <Th>Deployment</Th>
            <Th>Backtest of the same session</Th>
          </tr>
        </thead>
        <tbody>
          {data.rows.map((row) => (
            <tr key={`${row.at}${row.kind}${row.rule}`} className={row.same ? "" : "bg-mark"}>
              <td>{row.time}</td>
              <td>{row.lived ?? "nothing"}</td>
              <td>{row.same ? "the same" : (row.tested ?? "nothing")}</td>
            </tr>
          ))}
          {data.fills.map((row) => (
            <tr key={row.order} className={row.same ? "" : "bg-mark"}>
              <td className="text-soft">fill</td>
              <td>
                order {row.order}: {row.lived === null ? "not filled" : priceWords(row.lived)}
              </td>
              <td>{row.same ? "the same" : row.tested === null ? "not filled" : priceWords(row.tested)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
