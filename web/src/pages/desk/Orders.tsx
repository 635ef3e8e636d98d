import { useState } from "react";
import { type Order, useCancelOrder, useChangeOrder } from "../../api/desk";
import { number } from "../../ui/format";
import { Empty } from "../../ui/parts";
import { plainNumber } from "../../ui/read";
import { Th } from "../../ui/Th";
import { tell, tellError } from "../../ui/toast";

const LOOK: Record<string, string> = {
  working: "border-sea text-sea",
  "partly filled": "border-sea text-sea",
  filled: "",
  refused: "border-loss text-loss",
  rejected: "border-loss text-loss",
  unknown: "border-loss text-loss border-dashed",
};

export function priceWords(limit: number | null): string {
  if (limit === null) return "market";
  return limit === 0 ? "even" : `${number(Math.abs(limit), 2)} ${limit > 0 ? "debit" : "credit"}`;
}

/** Working orders first, then what became of the others, each with its reason. */
export function Orders({ orders }: { orders: Order[] }) {
  const [changing, setChanging] = useState<number | null>(null);
  const cancel = useCancelOrder();
  const alive = orders.filter((order) => order.alive);
  const shown = [...alive, ...orders.filter((order) => !order.alive)].slice(0, Math.max(12, alive.length));
  if (orders.length === 0)
    return (
      <section className="card" aria-label="Orders">
        <Empty title="No order yet." />
      </section>
    );
  return (
    <section className="card overflow-x-auto" aria-label="Orders">
      <table className="plain" aria-label="Orders">
        <thead>
          <tr>
            <Th>Sent</Th>
            <Th>State</Th>
            <Th>Order</Th>
            <Th>Does</Th>
            <Th className="number">Price</Th>
            <Th className="number">Mid now</Th>
            <Th>For</Th>
            <Th>Because</Th>
            <Th aria-label="Actions" />
          </tr>
        </thead>
        <tbody>
          {shown.map((order) => (
            <tr key={order.id} className={order.alive ? "" : "text-soft"}>
              <td className="whitespace-nowrap">{order.placed}</td>
              <td>
                <span className={`pill whitespace-nowrap ${LOOK[order.state] ?? ""}`} data-order={order.id}>
                  {order.cancel_wanted && order.alive ? "cancelling" : order.state}
                  {order.filled > 0 && order.filled < order.lots && ` ${order.filled}/${order.lots}`}
                </span>
              </td>
              <td className="max-w-41.25 truncate" title={order.words}>
                {order.words}
              </td>
              <td className="whitespace-nowrap">
                {order.changes ? "change" : order.opens ? "open" : "close"} {order.lots}
              </td>
              <td className="number whitespace-nowrap">
                {changing === order.id ? (
                  <Change order={order} done={() => setChanging(null)} />
                ) : order.fills.length > 0 ? (
                  <span
                    title={order.fills
                      .map((fill) => `${fill.at}: ${fill.lots} at ${priceWords(fill.price)}`)
                      .join("\n")}
                  >
                    {priceWords(order.fills[0]!.price)}
                  </span>
                ) : (
                  priceWords(order.limit)
                )}
              </td>
              <td className="number whitespace-nowrap">{order.now === null ? "" : priceWords(order.now)}</td>
              <td title={order.time_in_force === "day" ? "good for the day" : "good till cancelled"}>
                {order.time_in_force === "day" ? "day" : "gtc"}
              </td>
              <td className="max-w-30 truncate" title={order.reason || order.because}>
                {order.reason || order.because}
              </td>
              <td className="whitespace-nowrap">
                {order.can_change && changing !== order.id && (
                  <button type="button" className="link mr-2 text-xs" onClick={() => setChanging(order.id)}>
                    change
                  </button>
                )}
                {order.alive && !order.cancel_wanted && (
                  <button
                    type="button"
                    className="link text-xs"
                    aria-label={`Cancel order ${order.id}`}
                    onClick={() =>
                      cancel.mutate(order.id, {
                        onSuccess: (now) => now.alive && tell("The broker is asked to cancel it."),
                        onError: tellError,
                      })
                    }
                  >
                    cancel
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Change({ order, done }: { order: Order; done: () => void }) {
  const change = useChangeOrder();
  const credit = (order.limit ?? 0) < 0;
  const [price, setPrice] = useState(number(Math.abs(order.limit ?? 0), 2));
  return (
    <form
      className="flex justify-end gap-1"
      onSubmit={(event) => {
        event.preventDefault();
        const typed = plainNumber(price);
        change.mutate(
          { id: order.id, limit: credit ? `-${typed}` : typed },
          { onSuccess: done, onError: tellError },
        );
      }}
    >
      <input
        className="field number h-5 w-16"
        aria-label={`New price, ${credit ? "credit" : "debit"}`}
        autoFocus
        value={price}
        onChange={(event) => setPrice(event.target.value)}
        onKeyDown={(event) => event.key === "Escape" && done()}
      />
      <button type="submit" className="link text-xs" disabled={change.isPending}>
        set
      </button>
    </form>
  );
}
