import type { ReactNode } from "react";
import { useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useLuck } from "../../api/runs";
import { useAskSweep, useDials } from "../../api/sweeps";
import { BandChart } from "../../charts/BandChart";
import { number, percent, plural, signed, tone } from "../../ui/format";
import { ErrorNote, Skeleton } from "../../ui/parts";
import { tellError } from "../../ui/toast";
import type { Run } from "../strategy/types";

type Found = Schemas["LuckOut"];

/** A share in words that keep their honesty: 4 of 10 cases, fewer than 1 of 100. */
export function cases(share: number): string {
  if (share < 0.01) return "fewer than 1 of 100 cases";
  if (share < 0.1) return `${number(share * 100)} of 100 cases`;
  return share > 0.95 ? "nearly every case" : `${number(share * 10)} of 10 cases`;
}

/** How much of a run chance alone would give. */
export function Luck({ run, currency }: { run: Run; currency: string }) {
  const luck = useLuck(run.id);
  if (luck.error) return <ErrorNote error={luck.error} onRetry={() => luck.refetch()} />;
  if (!luck.data) return <Skeleton className="h-80" />;
  const found = luck.data;
  return (
    <div className="grid grid-cols-2 gap-3">
      <div className="flex flex-col gap-3">
        <Searched found={found} />
        <Best found={found} currency={currency} />
        <Fills run={run} />
      </div>
      <Order found={found} currency={currency} />
    </div>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="card flex min-w-0 flex-col gap-1.5 px-4 py-3" aria-label={title}>
      <h3 className="font-sans text-head font-semibold">{title}</h3>
      {children}
    </section>
  );
}

function Searched({ found }: { found: Found }) {
  const { variants, chance, deflated } = found;
  return (
    <Part title="What was tried">
      {chance === null ? (
        <p>Too few sessions to judge: sixty are the least.</p>
      ) : (
        <p className="font-serif text-head">
          With {variants === 1 ? "one variant" : plural(variants, "variant")} of this strategy tried, a result
          this good is expected by chance in {cases(chance)}.
        </p>
      )}
      <p className="text-soft">
        Sharpe {number(found.sharpe, 2)}
        {variants > 1 && (
          <>
            ; without any edge the best of {number(variants)} is expected to reach{" "}
            {number(found.best_by_chance, 2)}
          </>
        )}
        .{" "}
        {deflated !== null &&
          `That the true one is above ${variants > 1 ? "that" : "zero"} is ${percent(deflated, 0)} likely (deflated Sharpe ratio).`}
      </p>
      <p className="text-xs text-soft">
        Strell counts every set of rules of this strategy that was run, those deleted too. Variants that
        resemble each other count like others, which errs on the careful side. Changes made elsewhere, and
        what you saw of the market before, nobody counts.
      </p>
    </Part>
  );
}

function Best({ found, currency }: { found: Found; currency: string }) {
  if (!found.best) return null;
  const { total, without_best, few, without_few } = found.best;
  const money = (value: number) => (
    <b className={tone(value)}>
      {signed(value)} {currency}
    </b>
  );
  return (
    <Part title="Without the best trades">
      <p>
        All trades together made {money(total)}. Without the best one: {money(without_best)}; without the best{" "}
        {number(few)}, one in twenty: {money(without_few)}.
      </p>
    </Part>
  );
}

/** How much of it the assumption about fills makes: the rules run at mid, at the other side and between. */
function Fills({ run }: { run: Run }) {
  const sweep = useAskSweep(run.strategy);
  const places = useDials(run.strategy, run.revision).data;
  const [, setQuery] = useSearchParams();
  const place = places?.find((item) => item.path.startsWith("orders/") && item.path.endsWith("/share"));
  if (!place || run.outdated || run.variant) return null;
  const ask = () =>
    sweep.mutate(
      {
        start: run.start,
        end: run.end,
        cash: run.cash,
        dials: [{ paths: [place.path], text: "0, 25, 50, 75, 100" }],
        drawn: null,
      },
      { onSuccess: (made) => setQuery({ sweep: String(made.number) }), onError: tellError },
    );
  return (
    <Part title="What fills make of it">
      <p>
        This run filled at {place.text} of the way from mid to the other side.{" "}
        <button type="button" className="link" disabled={sweep.isPending} onClick={ask}>
          Run it at mid, at the other side and between
        </button>
        : what disappears on the way was never an edge.
      </p>
    </Part>
  );
}

function Order({ found, currency }: { found: Found; currency: string }) {
  const { order } = found;
  if (!order)
    return (
      <Part title="The order of the trades">
        <p>Too few trades to say: twenty are the least.</p>
      </Part>
    );
  return (
    <Part title="The order of the trades">
      <p>
        From close to close the deepest fall was{" "}
        <b className="text-loss">
          {signed(order.happened)} {currency}
        </b>
        . In other orders of the same trades it is {signed(order.middle)} in the middle, and deeper than{" "}
        {signed(order.deep)} in one of twenty; {percent(order.deeper, 0)} of the orders fall deeper than what
        happened.
      </p>
      <BandChart order={order} currency={currency} />
      <p className="text-xs text-soft">
        — as it came, between what 90 of 100 records made that were drawn from the same trades, each taken to
        be independent of the others. Trades that overlap are not: then falls are deeper.
      </p>
    </Part>
  );
}
