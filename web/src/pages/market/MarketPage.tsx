import { useEffect, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { useChain, useSurface } from "../../api/market";
import { useUnderlyings } from "../../api/queries";
import { day, number } from "../../ui/format";
import { useKeys } from "../../ui/keyboard";
import { Empty, ErrorNote, Skeleton } from "../../ui/parts";
import { Basket } from "./Basket";
import { add, type Leg, read, write } from "./basket";
import { Curves } from "./Curves";
import { InstantBar } from "./InstantBar";
import { Strikes } from "./Strikes";

const NEAR_STRIKES = 8;

/** One underlying at one instant, recorded or now: chain, curves of volatility, a basket to try things with. */
export function MarketPage() {
  const { symbol } = useParams();
  const known = useUnderlyings();
  const go = useNavigate();
  const [query] = useSearchParams();
  const first = known.data?.find((row) => row.sessions > 0)?.symbol;
  useEffect(() => {
    if (!symbol && first) go(`/market/${first}?${query}`, { replace: true });
  }, [symbol, first, go, query]);
  if (known.data && !first)
    return (
      <Empty title="There is no market to look at yet.">
        Load option chains on the page{" "}
        <Link className="link" to="/data">
          Data
        </Link>
        , or start the demo.
      </Empty>
    );
  return symbol ? <Market key={symbol} symbol={symbol} /> : <Skeleton className="m-6 h-96" />;
}

function Market({ symbol }: { symbol: string }) {
  const [query, setQuery] = useSearchParams();
  const at = query.get("at");
  const wanted = query.get("expiration");
  const legs = read(query.get("legs"));
  const surface = useSurface(symbol, at);
  const [all, setAll] = useState(false);
  const chain = useChain(symbol, at, wanted, all ? 200 : NEAR_STRIKES);
  const known = useUnderlyings();
  const go = useNavigate();

  const turn = (changes: Record<string, string | null>) =>
    setQuery(
      (old) => {
        const next = new URLSearchParams(old);
        for (const [name, value] of Object.entries(changes))
          if (value === null || value === "") next.delete(name);
          else next.set(name, value);
        return next;
      },
      { replace: true },
    );
  const setLegs = (next: Leg[]) => turn({ legs: write(next) });
  const steps = surface.data?.neighbours;
  const step = (name: "step_back" | "step" | "session_back" | "session") => () => {
    const to = steps?.[name];
    if (to) turn({ at: to });
  };
  useKeys({
    ",": step("step_back"),
    ".": step("step"),
    "shift+,": step("session_back"),
    "shift+.": step("session"),
  });

  const here = surface.data;
  return (
    <div className="px-4.5 pb-4">
      <header className="flex h-12.5 items-center gap-4">
        <select
          className="field h-8 font-serif text-section font-semibold"
          aria-label="Underlying"
          value={symbol}
          onChange={(event) => go(`/market/${event.target.value}${at === "now" ? "" : `?at=${at ?? ""}`}`)}
        >
          {known.data && !known.data.some((row) => row.symbol === symbol) && <option>{symbol}</option>}
          {known.data
            ?.filter((row) => row.sessions > 0)
            .map((row) => (
              <option key={row.symbol} value={row.symbol}>
                {row.symbol}
              </option>
            ))}
        </select>
        {here && (
          <>
            <b className="text-title font-semibold">{number(here.spot, here.spot < 500 ? 2 : 1)}</b>
            <span
              className="truncate text-soft"
              title={here.ahead.map((one) => `${day(one.date)}: ${one.what}`).join("\n")}
            >
              {here.name}
              {here.american ? ", American options" : ""}
              {here.terms.map((term) =>
                term.days === 30 || term.days === 90 ? ` · ${term.days}-day IV ${number(term.vol, 1)} %` : "",
              )}
              {here.ahead.slice(0, 2).map((one) => ` · ${one.what} ${day(one.date)}`)}
            </span>
            <InstantBar here={here} step={step} onInstant={(next) => turn({ at: next })} />
          </>
        )}
      </header>
      <ErrorNote error={surface.error ?? chain.error} onRetry={() => surface.refetch()} />
      <div className="mt-1 grid grid-cols-[minmax(0,1fr)_--spacing(107)] gap-3.5">
        <div className="flex min-w-0 flex-col gap-3">
          {chain.data && here ? (
            <Strikes
              chain={chain.data}
              spot={here.spot}
              legs={legs}
              all={all}
              onAll={setAll}
              onExpiration={(date) => turn({ expiration: date })}
              onPick={(leg) => setLegs(add(legs, leg))}
            />
          ) : (
            !chain.error && <Skeleton className="h-105" />
          )}
          {here && chain.data && <Curves surface={here} expiration={chain.data.expiration} />}
        </div>
        {here ? (
          <Basket symbol={symbol} at={at} here={here} legs={legs} onLegs={setLegs} />
        ) : (
          !surface.error && <Skeleton className="h-160" />
        )}
      </div>
    </div>
  );
}
