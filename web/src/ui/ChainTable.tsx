import { useRef } from "react";
import type { Schemas } from "../api/client";
import { day, level, number, signed } from "./format";
import { Th } from "./Th";

type Side = Schemas["SideOut"];

interface Props {
  chain: Schemas["ChainOut"];
  spot: number;
  busy?: boolean;
  hint: string;
  onExpiration: (date: string) => void;
  onPick: (contract: string, contracts: number, label: string) => void;
  /** Contracts on a ticket, to be marked. */
  picked?: Record<string, number>;
}

/** The chain of one expiration. A bid sells, an ask buys; arrow keys move between prices. */
export function ChainTable({ chain, spot, busy = false, hint, onExpiration, onPick, picked = {} }: Props) {
  const place = useRef<HTMLTableSectionElement>(null);
  if (!chain.expiration)
    return <section className="card p-4 text-soft">No expiration has quotes at this instant.</section>;
  const below = chain.rows.findLastIndex((row) => row.strike <= spot);

  function steer(event: React.KeyboardEvent) {
    const by = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] }[event.key];
    const at = (event.target as HTMLElement).dataset.cell?.split(",").map(Number);
    if (!by || !at) return;
    event.preventDefault();
    const [row, column] = [at[0]! + by[0]!, at[1]! + by[1]!];
    place.current?.querySelector<HTMLElement>(`[data-cell="${row},${column}"]`)?.focus();
  }

  const lots = 1;
  const price = (side: Side, which: "bid" | "ask", row: number, column: number, label: string) => {
    const value = side[which];
    const sells = which === "bid";
    const contracts = picked[side.contract] ?? 0;
    const onTicket = sells ? contracts < 0 : contracts > 0;
    return (
      <td className="number p-0!">
        <button
          type="button"
          data-cell={`${row},${column}`}
          className={`h-full w-full px-1.5 text-right hover:bg-seawash disabled:cursor-default disabled:text-soft ${onTicket ? "bg-seawash font-semibold" : ""}`}
          aria-label={`${sells ? "Sell" : "Buy"} 1 ${label} at ${number(value, 2)}`}
          disabled={value === null || (sells && value === 0) || busy}
          onClick={() => onPick(side.contract, sells ? -lots : lots, label)}
        >
          {number(value, 2)}
        </button>
      </td>
    );
  };
  const held = (side: Side) =>
    side.held ? (
      <span className={`text-xs font-semibold ${side.held > 0 ? "text-sea" : "text-loss"}`}>
        {signed(side.held)}
      </span>
    ) : null;

  return (
    <section className="card flex min-h-0 flex-col" aria-label="Chain">
      <div className="flex items-center gap-2 px-3 py-1.5">
        <select
          className="field h-7 flex-1 font-semibold"
          aria-label="Expiration"
          value={chain.expiration}
          onChange={(event) => onExpiration(event.target.value)}
        >
          {chain.expirations.map((item) => (
            <option key={item.date} value={item.date}>
              {day(item.date)} · {item.days} d
            </option>
          ))}
        </select>
        <span className="text-xs text-soft">forward {level(chain.forward)}</span>
      </div>
      <div className="min-h-0 flex-1 overflow-y-auto">
        <table className="plain">
          <thead className="sticky top-0 bg-surface">
            <tr>
              <Th className="number px-1.5!">Call bid</Th>
              <Th className="number px-1.5!">ask</Th>
              <Th className="text-center!">Strike</Th>
              <Th className="number px-1.5!">Put bid</Th>
              <Th className="number px-1.5!">ask</Th>
            </tr>
          </thead>
          <tbody ref={place} onKeyDown={steer}>
            {chain.rows.map((row, i) => (
              <tr key={row.strike} className={i === below ? "[&>td]:border-b-2 [&>td]:border-b-ink" : ""}>
                {price(row.call, "bid", i, 0, `${day(chain.expiration!)} ${row.strike} call`)}
                {price(row.call, "ask", i, 1, `${day(chain.expiration!)} ${row.strike} call`)}
                <td
                  className={`border-x px-1! text-center font-semibold whitespace-nowrap ${row.call.held || row.put.held ? "bg-mark" : ""}`}
                  title={`IV ${number(row.call.iv, 1)}, delta ${number(row.call.delta, 2)} / ${number(row.put.delta, 2)}`}
                >
                  {held(row.call)} {number(row.strike)} {held(row.put)}
                </td>
                {price(row.put, "bid", i, 2, `${day(chain.expiration!)} ${row.strike} put`)}
                {price(row.put, "ask", i, 3, `${day(chain.expiration!)} ${row.strike} put`)}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <p className="border-t px-3 py-1.5 text-xs text-soft">{hint}</p>
    </section>
  );
}
