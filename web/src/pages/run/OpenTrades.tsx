import type { Schemas } from "../../api/client";
import { number, plural, signed, tone } from "../../ui/format";

interface Props {
  trades: Schemas["OpenTrade"][];
  currency: string;
}

/** Trades that are open at the run's end, at mid: they stand in its equity, not among its closed trades. */
export function OpenTrades({ trades, currency }: Props) {
  if (trades.length === 0) return null;
  const several = new Set(trades.map((trade) => trade.symbol)).size > 1;
  return (
    <section className="card px-3 py-2" aria-label="Open at the end">
      <b className="font-semibold">Open at the end</b>
      <ul>
        {trades.map((trade) => (
          <li key={trade.number}>
            Trade {trade.number}
            {several && ` on ${trade.symbol}`}, entered {trade.opened_shown}, {plural(trade.lots, "lot")}:{" "}
            {trade.legs.map((leg, place) => (
              <span key={`${leg.label} ${leg.contracts}`}>
                {place > 0 && ", "}
                {signed(leg.contracts)} × {leg.label} from {number(leg.opened, 2)} at {number(leg.mark, 2)}
                {leg.stale && " (an older mark)"}
              </span>
            ))}
            ,{" "}
            <span className={tone(trade.pnl)}>
              {signed(trade.pnl, 2)} {currency}
            </span>
            {trade.waits && <span className="text-loss"> · waits for its settlement value</span>}
          </li>
        ))}
      </ul>
    </section>
  );
}
