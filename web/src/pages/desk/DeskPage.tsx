import { type FormEvent, useEffect, useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import { Refusal } from "../../api/client";
import {
  type Desk,
  type Holding,
  useAccounts,
  useDesk,
  useLiveChain,
  useOpenAccount,
  usePath,
  usePosition,
  useSetLimits,
  useTakeOver,
} from "../../api/desk";
import { useTerms } from "../../api/queries";
import { PayoffChart } from "../../charts/PayoffChart";
import { SessionChart } from "../../charts/SessionChart";
import { ChainTable } from "../../ui/ChainTable";
import { number, signed, tone } from "../../ui/format";
import { Empty, ErrorNote, Figure, Skeleton } from "../../ui/parts";
import { tell, tellError } from "../../ui/toast";
import { read } from "../market/basket";
import { AccountBand } from "./AccountBand";
import { ClockBar } from "./ClockBar";
import { Deployments } from "./Deployments";
import { Orders } from "./Orders";
import { Positions } from "./Positions";
import { type Basket, Ticket } from "./Ticket";

/** A page of a running market that was read longer ago than this says so. */
const OLD_SECONDS = 4;

export function DeskPage() {
  const [query, setQuery] = useSearchParams();
  const accounts = useAccounts();
  const wanted = Number(query.get("account"));
  const account = accounts.data?.find((row) => row.id === wanted) ?? accounts.data?.[0];
  const desk = useDesk(account?.id);
  const [opening, setOpening] = useState(false);
  if (accounts.error) return <ErrorBox error={accounts.error} again={accounts.refetch} />;
  if (!accounts.data) return <Skeleton className="m-6 h-[70vh]" />;
  const pills = (
    <span className="flex flex-wrap gap-2">
      {accounts.data.map((row) => (
        <button
          key={row.id}
          type="button"
          className={`pill ${row.kind}-pill`}
          aria-pressed={row.id === account?.id}
          onClick={() => setQuery({ account: String(row.id) })}
        >
          {row.name}
          {row.halted ? ", halted" : row.quarantine ? ", in quarantine" : ""}
        </button>
      ))}
      <button type="button" className="pill" aria-expanded={opening} onClick={() => setOpening(!opening)}>
        + account
      </button>
    </span>
  );
  const form = opening && (
    <NewAccount
      done={(id) => {
        setOpening(false);
        setQuery({ account: String(id) });
      }}
    />
  );
  if (accounts.data.length === 0)
    return (
      <div className="p-6">
        <Empty title="No account yet.">
          Open a paper account to trade today's prices by hand or by a strategy's rules, or one at the
          practice broker, where orders travel as they would to a real one.
        </Empty>
        <div className="mx-auto max-w-lg">
          <NewAccount done={(id) => setQuery({ account: String(id) })} />
        </div>
      </div>
    );
  if (desk.error && !desk.data) return <ErrorBox error={desk.error} again={desk.refetch} />;
  if (!desk.data || desk.data.account.id !== account?.id) return <Skeleton className="m-6 h-[70vh]" />;
  return (
    <Page
      key={account.id}
      desk={desk.data}
      readAt={desk.dataUpdatedAt}
      error={desk.error}
      pills={pills}
      form={form}
    />
  );
}

function ErrorBox({ error, again }: { error: unknown; again: () => void }) {
  return (
    <div className="m-6">
      <ErrorNote error={error} onRetry={again} />
    </div>
  );
}

interface PageProps {
  desk: Desk;
  /** When ``desk`` was read, epoch milliseconds. */
  readAt: number;
  /** Why it could not be read since. */
  error: Error | null;
  pills: React.ReactNode;
  form: React.ReactNode;
}

function Page({ desk, readAt, error, pills, form }: PageProps) {
  const old = useAge(readAt);
  const [query, setQuery] = useSearchParams();
  const [basket, setBasket] = useState<Basket | null>(() => brought(query.get("legs")));
  useEffect(() => {
    if (query.has("legs"))
      setQuery(
        (old) => {
          old.delete("legs");
          return old;
        },
        { replace: true },
      );
  }, [query, setQuery]);
  const [expiration, setExpiration] = useState<string | null>(null);
  const [chosen, setChosen] = useState<number | null>(null);
  const { account } = desk;
  const chain = useLiveChain(account.symbol, expiration, account.id, desk.clock.running);
  const gone = chosen !== null && !desk.holdings.some((row) => row.id === chosen);
  useEffect(() => {
    if (gone) setChosen(null);
  }, [gone]);

  function pick(contract: string, contracts: number) {
    setBasket((old) => {
      const start = old && old.holding === null ? old : { legs: {}, holding: null, lots: "1" };
      const ratio = (start.legs[contract] ?? 0) + contracts;
      const { [contract]: _, ...rest } = start.legs;
      const legs = ratio === 0 ? rest : { ...rest, [contract]: ratio };
      return Object.keys(legs).length === 0 ? null : { ...start, legs };
    });
  }
  const close = (row: Holding) =>
    setBasket({
      legs: Object.fromEntries(row.legs.map((leg) => [leg.contract, -leg.contracts / row.lots])),
      holding: row.id,
      lots: String(row.lots),
    });

  return (
    <>
      <AccountBand desk={desk} />
      <div className="grid h-[calc(100vh_-_--spacing(15.5))] min-h-150 grid-cols-[minmax(0,1fr)_--spacing(105)] gap-3 px-4.5 py-3">
        <div className="flex min-h-0 min-w-0 flex-col gap-3 overflow-y-auto pr-1">
          <Head desk={desk} pills={pills} />
          {form}
          <Outdated desk={desk} old={old} error={error} />
          <Warnings desk={desk} />
          <ClockBar clock={desk.clock} old={old} />
          <Positions desk={desk} chosen={chosen} choose={setChosen} onClose={close} />
          <Pictures desk={desk} chosen={chosen} />
          <Orders orders={desk.orders} />
          <Deployments deployments={desk.deployments} />
        </div>
        <div className="flex min-h-0 flex-col gap-3">
          {basket && <Ticket key={basket.holding ?? "new"} desk={desk} basket={basket} change={setBasket} />}
          <div className="flex min-h-32.5 flex-1 flex-col [&>section]:min-h-0 [&>section]:flex-1">
            {chain.chain ? (
              <ChainTable
                chain={chain.chain}
                spot={chain.chain.spot}
                hint="A bid sells, an ask buys: what you click comes onto one ticket."
                onExpiration={setExpiration}
                onPick={pick}
                picked={basket?.holding === null ? basket.legs : {}}
              />
            ) : chain.error ? (
              <ErrorNote error={chain.error} />
            ) : (
              <Skeleton className="h-full" />
            )}
          </div>
        </div>
      </div>
    </>
  );
}

/** A ticket of legs that another page brought, in whole lots. */
function brought(text: string | null): Basket | null {
  const legs = read(text).filter((leg) => leg.contract !== null && Number.isInteger(leg.contracts));
  if (legs.length === 0) return null;
  const lots = legs.map((leg) => Math.abs(leg.contracts)).reduce(common);
  const ratios = legs.map((leg) => [leg.contract!, leg.contracts / lots]);
  return { legs: Object.fromEntries(ratios), holding: null, lots: String(lots) };
}

/** The greatest common divisor. */
function common(a: number, b: number): number {
  return b === 0 ? a : common(b, a % b);
}

function Head({ desk, pills }: { desk: Desk; pills: React.ReactNode }) {
  const { account } = desk;
  const loss = Number(account.limits.day_loss ?? 0);
  const near = account.session_pnl !== null && loss > 0 && -account.session_pnl > loss * 0.7;
  return (
    <section className="flex items-end gap-6" aria-label="Account figures">
      <Figure
        label="today"
        value={signed(account.session_pnl)}
        tone={tone(account.session_pnl)}
        note={`${account.currency}, costs ${number(account.costs)}`}
      />
      <Figure
        label="open, closable"
        value={signed(account.open_closable)}
        tone={tone(account.open_closable)}
        note={`mid ${signed(account.open_mid)}`}
      />
      <Figure label="delta" value={signed(account.greeks.delta, 1)} note={`${account.currency} a point`} />
      <Figure label="theta" value={signed(account.greeks.theta)} note={`${account.currency} a day`} />
      <div className="min-w-0">
        <Figure
          label="loss limit today"
          value={loss ? number(-loss) : "none"}
          tone={near ? "text-loss" : ""}
          note={near ? "near" : "not near"}
        />
      </div>
      <div className="ml-auto flex flex-col items-end gap-1.5">
        {pills}
        <LimitsEditor desk={desk} />
      </div>
    </section>
  );
}

const LIMITS: [string, string][] = [
  ["lots", "lots an order"],
  ["notional", "notional an order"],
  ["orders_a_minute", "orders a minute"],
  ["day_loss", "loss a day"],
  ["collar", "% of the spread beyond the other side"],
];

function LimitsEditor({ desk }: { desk: Desk }) {
  const { account } = desk;
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState<Record<string, string>>({});
  const save = useSetLimits(account.id);
  if (!open)
    return (
      <button type="button" className="link text-xs" onClick={() => setOpen(true)}>
        Limits
      </button>
    );
  return (
    <form
      className="card absolute z-30 mt-6 flex flex-col gap-1 p-3"
      aria-label="Limits"
      onSubmit={(event) => {
        event.preventDefault();
        const body = Object.fromEntries(
          Object.entries(typed).map(([key, value]) => [key, value.trim() ? value.replace(/\s/g, "") : null]),
        );
        save.mutate(body, {
          onSuccess: () => {
            tell("The limits hold from the next order on.");
            setOpen(false);
          },
          onError: tellError,
        });
      }}
    >
      {LIMITS.map(([key, words]) => (
        <label key={key} className="flex items-center justify-between gap-3 text-soft">
          {words}
          <input
            className="field number h-6 w-28 text-ink"
            value={typed[key] ?? String(account.limits[key] ?? "")}
            placeholder="no limit"
            onChange={(event) => setTyped({ ...typed, [key]: event.target.value })}
          />
        </label>
      ))}
      <span className="mt-1 flex gap-3">
        <button type="submit" className="button small" disabled={save.isPending}>
          Keep
        </button>
        <button type="button" className="link text-xs" onClick={() => setOpen(false)}>
          Leave as they are
        </button>
      </span>
    </form>
  );
}

/** Whole seconds since an instant, followed while it passes. */
function useAge(since: number): number {
  const age = () => Math.max(0, Math.floor((Date.now() - since) / 1000));
  const [old, setOld] = useState(age);
  // biome-ignore lint/correctness/useExhaustiveDependencies: ``age`` changes with ``since`` only
  useEffect(() => {
    setOld(age());
    const timer = setInterval(() => setOld(age()), 1000);
    return () => clearInterval(timer);
  }, [since]);
  return old;
}

/** Says that what the page shows is old, and why. */
function Outdated({ desk, old, error }: { desk: Desk; old: number; error: Error | null }) {
  if (old <= (desk.clock.running ? OLD_SECONDS : 4 * OLD_SECONDS)) return null;
  return (
    <p role="alert" className="rounded-card border border-loss bg-surface px-3 py-1.5 text-loss">
      What you see is {old} s old. {error?.message ?? "The server does not answer."} Until it is back nothing
      is decided, opened or protected; then everything goes on by itself.
    </p>
  );
}

function Warnings({ desk }: { desk: Desk }) {
  const { account } = desk;
  const over = useTakeOver();
  const said: React.ReactNode[] = [];
  if (!desk.desk.alive)
    said.push(
      "The desk process does not answer: orders wait, nothing is decided or protected until it runs again.",
    );
  if (account.halted)
    said.push(`Halted until the next session: ${account.halted_because}. Closing is possible.`);
  if (account.kind === "practice" && !desk.desk.line_up)
    said.push("The line to the practice broker is down; orders wait until it is up again.");
  else if (account.kind === "practice" && !desk.desk.reconciled)
    said.push("Positions are being compared with the broker; nothing is sent until they agree.");
  if (account.quarantine)
    said.push(
      <>
        In quarantine: {account.quarantine} Nothing is opened.{" "}
        <button
          type="button"
          className="link"
          onClick={() =>
            over.mutate(account.id, {
              onSuccess: () => tell("The ledger has taken over what the broker holds."),
              onError: tellError,
            })
          }
        >
          Take over what the broker holds
        </button>
      </>,
    );
  return said.map((text, i) => (
    // biome-ignore lint/suspicious/noArrayIndexKey: a fixed short list
    <p key={i} role="alert" className="rounded-card border border-loss bg-surface px-3 py-1.5 text-loss">
      {text}
    </p>
  ));
}

function Pictures({ desk, chosen }: { desk: Desk; chosen: number | null }) {
  const { account } = desk;
  const path = usePath(account.symbol, desk.clock.running);
  const terms = useTerms(account.symbol);
  const position = usePosition(chosen, desk.clock.running);
  const detail = position.data?.holding.id === chosen ? position.data : undefined;
  const levels = useMemo(
    () =>
      detail
        ? [
            ...[
              ...new Set(detail.holding.legs.filter((leg) => leg.contracts < 0).map((leg) => leg.strike)),
            ].map((price) => ({ price, text: `short ${number(price)}` })),
            ...(detail.payoff?.break_evens ?? []).map((price) => ({
              price,
              text: `break-even ${number(price, 1)}`,
            })),
          ]
        : [],
    [detail],
  );
  return (
    <div className={`grid gap-3 ${detail?.payoff ? "grid-cols-2" : ""}`}>
      <section className="card min-w-0 px-2 pt-1" aria-label="Session">
        {path.data && path.data.at.length > 0 ? (
          <SessionChart path={path.data} symbol={account.symbol} zone={terms.zone} levels={levels} />
        ) : (
          <p className="px-3 py-4 text-soft">
            The session's first recorded price comes five minutes after the open.
          </p>
        )}
      </section>
      {detail?.payoff && (
        <section className="card min-w-0 px-2 pt-1" aria-label="Payoff">
          <PayoffChart payoff={detail.payoff} currency={account.currency} height={150} />
        </section>
      )}
    </div>
  );
}

function NewAccount({ done }: { done: (id: number) => void }) {
  const open = useOpenAccount();
  const [name, setName] = useState("");
  const [kind, setKind] = useState("paper");
  const [cash, setCash] = useState("50000");
  function submit(event: FormEvent) {
    event.preventDefault();
    open.mutate(
      { name, kind, symbol: "MK30", cash: cash.replace(",", ".").replace(/\s/g, "") },
      { onSuccess: (made) => done(made.id) },
    );
  }
  return (
    <form
      className="card flex flex-wrap items-end gap-3 px-3 py-2"
      aria-label="New account"
      onSubmit={submit}
      noValidate
    >
      <label className="text-xs text-soft">
        Name
        <input
          className="field mt-0.5 block w-36"
          value={name}
          maxLength={40}
          onChange={(e) => setName(e.target.value)}
        />
      </label>
      <label className="text-xs text-soft">
        Kind
        <select className="field mt-0.5 block" value={kind} onChange={(e) => setKind(e.target.value)}>
          <option value="paper">paper, matched by Strell</option>
          <option value="practice">at the practice broker</option>
        </select>
      </label>
      <label className="text-xs text-soft">
        Cash, EUR
        <input
          className="field number mt-0.5 block w-28"
          value={cash}
          onChange={(e) => setCash(e.target.value)}
        />
      </label>
      <button type="submit" className="button primary" disabled={open.isPending}>
        Open account
      </button>
      {open.error instanceof Refusal && (
        <p role="alert" className="w-full text-loss">
          {open.error.message}
        </p>
      )}
    </form>
  );
}
