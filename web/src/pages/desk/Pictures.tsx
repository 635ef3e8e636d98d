import { useMemo } from "react";
import { type Desk, usePath, usePosition } from "../../api/desk";
import { useTerms } from "../../api/queries";
import { PayoffChart } from "../../charts/PayoffChart";
import { SessionChart } from "../../charts/SessionChart";
import { level, number } from "../../ui/format";

export function Pictures({ desk, chosen }: { desk: Desk; chosen: number | null }) {
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
              text: `break-even ${level(price)}`,
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
