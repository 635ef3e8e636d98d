import type { WhatIf } from "../../api/market";
import { dayAt } from "../../ui/DateSlide";
import { number, signed, tone } from "../../ui/format";
import { Th } from "../../ui/Th";

/** P/L by price and date, the volatilities as pulled. */
export function ByDate({ found }: { found: WhatIf }) {
  const { dates, prices, profit } = found.surface;
  const most = Math.max(1, ...profit.flat().map(Math.abs));
  return (
    <div className="max-h-60 overflow-auto">
      <table className="plain" aria-label="P/L by price and date">
        <thead className="sticky top-0 bg-surface">
          <tr>
            <Th className="number px-1!">{found.symbol}</Th>
            {dates.map((at) => (
              <Th key={at} className="number px-1!">
                {dayAt(at, found.zone_name).replace(/^\w+,? /, "")}
              </Th>
            ))}
          </tr>
        </thead>
        <tbody>
          {[...prices.keys()].reverse().map((row) => (
            <tr key={prices[row]} className={prices[row] === Number(found.spot.toFixed(2)) ? "bg-mark" : ""}>
              <td className="number px-1! font-semibold">
                {number(prices[row], prices[row]! < 500 ? 2 : 0)}
              </td>
              {dates.map((at, column) => {
                const value = profit[column]![row]!;
                const weight = 0.04 + 0.22 * (Math.abs(value) / most);
                return (
                  <td
                    key={at}
                    className={`number px-1! ${tone(value)}`}
                    style={{
                      background: `color-mix(in srgb, var(--${value < 0 ? "loss" : "gain"}) ${Math.round(weight * 100)}%, transparent)`,
                    }}
                  >
                    {signed(value)}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
