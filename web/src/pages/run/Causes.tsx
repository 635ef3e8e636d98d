import type { Schemas } from "../../api/client";
import { CAUSES } from "../../charts/CauseCharts";
import { signed, tone } from "../../ui/format";
import { Th } from "../../ui/Th";
import { lines } from "./holdings";

const DEFINED: Record<string, string> = {
  price: "What the underlying's moves made, with the legs revalued at each snapshot.",
  time: "What passing time made.",
  volatility: "What changes of the volatility that each leg's own mid implies made.",
  carry: "What changes of the forward beside its price made: interest and dividends expected.",
  rest: "What no other cause explains: snapshots without a volatility, a settlement off the last price.",
  dealing:
    "What lay between mid and the prices it was dealt at, at both ends. An option that is exercised goes for nothing, and its units at the strike: what it was worth stands with both, once with either sign.",
  costs: "Commissions, and dividends where there are any.",
};

const COLUMNS = [...CAUSES, { id: "dealing", title: "dealing" }] as const;

interface Props {
  causes: Schemas["CausesOut"];
  legs: Schemas["LegDetail"][];
  currency: string;
}

/** Where a trade's P/L came from, leg by leg. */
export function TradeCauses({ causes, legs, currency }: Props) {
  const sums = COLUMNS.map(({ id }) => causes.legs.reduce((sum, leg) => sum + leg[id], 0));
  const total = sums.reduce((sum, value) => sum + value, causes.costs);
  return (
    <section className="card overflow-x-auto" aria-label="P/L by cause">
      <table className="plain">
        <thead>
          <tr>
            <Th>
              <b className="font-semibold text-ink">Where it came from</b>, {currency}
            </Th>
            {COLUMNS.map(({ id, title }) => (
              <Th key={id} className="number" title={DEFINED[id]}>
                {title}
              </Th>
            ))}
            <Th className="number" title={DEFINED.costs}>
              costs
            </Th>
            <Th className="number">P/L</Th>
          </tr>
        </thead>
        <tbody>
          {lines(legs).map((line) => {
            const made = (id: (typeof COLUMNS)[number]["id"]) =>
              line.legs.reduce((sum, { place }) => sum + causes.legs[place]![id], 0);
            return (
              <tr key={line.legs[0]!.place}>
                <td>{line.label}</td>
                {COLUMNS.map(({ id }) => (
                  <td key={id} className={`number ${tone(made(id))}`}>
                    {signed(made(id))}
                  </td>
                ))}
                <td />
                <td className="number">{signed(COLUMNS.reduce((sum, { id }) => sum + made(id), 0))}</td>
              </tr>
            );
          })}
          <tr className="font-semibold">
            <td>All legs</td>
            {sums.map((value, i) => (
              <td key={COLUMNS[i]!.id} className={`number ${tone(value)}`}>
                {signed(value)}
              </td>
            ))}
            <td className={`number ${tone(causes.costs)}`}>{signed(causes.costs)}</td>
            <td className={`number ${tone(total)}`}>{signed(total)}</td>
          </tr>
        </tbody>
      </table>
    </section>
  );
}

/** P/L of all closed trades by cause, as one line. */
export function RunCauses({ causes, currency }: { causes: Record<string, number>; currency: string }) {
  const all = [...COLUMNS, { id: "costs", title: "costs" }];
  const most = Math.max(...all.map(({ id }) => Math.abs(causes[id] ?? 0)), 1);
  return (
    <section className="card px-4 py-2.5" aria-label="P/L by cause">
      <b className="font-semibold">Where the P/L of all closed trades came from, {currency}</b>
      <dl className="mt-1.5 grid grid-cols-7 gap-x-4">
        {all.map(({ id, title }) => {
          const value = causes[id] ?? 0;
          return (
            <div key={id} title={DEFINED[id]}>
              <dt className="text-xs text-soft first-letter:uppercase">{title}</dt>
              <dd className={`font-semibold ${tone(value)}`}>{signed(value)}</dd>
              <div className="mt-0.5 h-1 bg-line" aria-hidden="true">
                <div
                  className={`h-full ${value < 0 ? "bg-loss" : "bg-gain"}`}
                  style={{ width: `${(100 * Math.abs(value)) / most}%` }}
                />
              </div>
            </div>
          );
        })}
      </dl>
    </section>
  );
}
