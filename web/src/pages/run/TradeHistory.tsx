import type { Schemas } from "../../api/client";
import { number, signed, tone } from "../../ui/format";
import { Th } from "../../ui/Th";

type TradeEvent = Schemas["TradeEventOut"];

/** What was dealt with an event: contracts, each at its price. */
function Dealt({ event }: { event: TradeEvent }) {
  return (
    <ul>
      {event.dealt.map((leg) => (
        <li key={`${leg.contract}${leg.contracts}${leg.price}`} className="whitespace-nowrap">
          <b className={`font-semibold ${leg.contracts > 0 ? "text-sea" : "text-loss"}`}>
            {signed(leg.contracts)}
          </b>{" "}
          {leg.contract} <span className="text-soft">at</span> {number(leg.price, 2)}
        </li>
      ))}
    </ul>
  );
}

/** All that happened to a trade, in order: decisions with their sentence and its values, what was refused, every fill. */
export function TradeHistory({ events, currency }: { events: TradeEvent[] | null; currency: string }) {
  return (
    <section className="card overflow-x-auto" aria-label="History of the trade">
      <h3 className="px-3 pt-2 font-semibold">History</h3>
      {events === null ? (
        <p className="px-3 pb-2 text-soft">
          It was not kept when this run was made. Run the backtest again to see it.
        </p>
      ) : (
        <table className="plain">
          <thead>
            <tr>
              <Th>Time</Th>
              <Th>What</Th>
              <Th>Why</Th>
              <Th>Dealt</Th>
              <Th className="number">{currency}</Th>
            </tr>
          </thead>
          <tbody>
            {events.map((event, place) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: events never change their order
              <tr key={place} className="align-top">
                <td className="whitespace-nowrap">
                  {event.shown}
                  {event.until && <span className="block text-xs text-soft">until {event.until}</span>}
                </td>
                <td className="whitespace-nowrap">
                  {event.title}
                  {event.times > 1 && ` ${event.times} times`}
                  {event.sentence !== null && (
                    <span className="block text-xs text-soft">sentence {event.sentence}</span>
                  )}
                </td>
                <td className="max-w-110">{event.text}</td>
                <td>
                  <Dealt event={event} />
                </td>
                <td className={`number ${event.moves_money ? tone(event.amount) : ""}`}>
                  {event.moves_money ? signed(event.amount, 2) : ""}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}
