import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";
import { type Desk, type Holding, useAccounts, useDesk, useLiveChain } from "../../api/desk";
import { ChainTable } from "../../ui/ChainTable";
import { Empty, ErrorNote, Skeleton } from "../../ui/parts";
import { read } from "../market/basket";
import { AccountBand } from "./AccountBand";
import { ClockBar } from "./ClockBar";
import { Deployments } from "./Deployments";
import { Head } from "./Head";
import { NewAccount } from "./NewAccount";
import { ErrorBox, Outdated, useAge, Warnings } from "./Notices";
import { Orders } from "./Orders";
import { Pictures } from "./Pictures";
import { Positions } from "./Positions";
import { type Basket, Ticket } from "./Ticket";
import { Underlying } from "./Underlying";

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
          {chain.chain?.unit && <Underlying unit={chain.chain.unit} onPick={pick} />}
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
