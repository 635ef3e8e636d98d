import { useState } from "react";
import type { Pulled, WhatIf } from "../../api/market";
import { DateSlide } from "../../ui/DateSlide";
import { day, number, signed } from "../../ui/format";
import { Slide } from "../../ui/Slide";

interface Props {
  found: WhatIf;
  pulled: Pulled;
  onPull: (pulled: Pulled) => void;
  onReset: () => void;
}

/** Price, date and volatility, pulled: all volatilities together, or those of one expiration. */
export function Pulls({ found, pulled, onPull, onReset }: Props) {
  const [single, setSingle] = useState(false);
  const expirations = [...new Set(found.legs.flatMap((leg) => (leg.expiration ? [leg.expiration] : [])))];
  expirations.sort();
  const [from, to] = [found.grid[0]!, found.grid.at(-1)!];
  const digits = found.spot < 500 ? 2 : 1;
  const points = (by: number) => `${signed(by, 1)} points`;
  return (
    <div className="flex flex-col" role="group" aria-label="What if">
      <Slide
        label={found.symbol}
        name="Price"
        from={from}
        to={to}
        step={(to - from) / 200}
        value={pulled.price ?? found.spot}
        shown={(price) => number(price, digits)}
        onChange={(price) =>
          onPull({ ...pulled, price: Math.abs(price - found.spot) < (to - from) / 400 ? null : price })
        }
      />
      <DateSlide
        zone={found.zone_name}
        from={found.at}
        to={found.last}
        value={pulled.when ?? null}
        onChange={(when) => onPull({ ...pulled, when })}
      />
      {!single && (
        <Slide
          label="IV"
          name="Volatility of all legs"
          from={-10}
          to={20}
          step={0.5}
          value={pulled.vol ?? 0}
          shown={points}
          onChange={(vol) => onPull({ ...pulled, vol })}
        />
      )}
      {single &&
        expirations.map((date) => (
          <Slide
            key={date}
            label={`IV ${day(date)}`}
            name={`Volatility of ${day(date)}`}
            from={-10}
            to={20}
            step={0.5}
            value={pulled.by_expiration?.[date] ?? 0}
            shown={points}
            onChange={(by) => onPull({ ...pulled, by_expiration: { ...pulled.by_expiration, [date]: by } })}
          />
        ))}
      <div className="flex gap-4 px-2 py-1 text-xs">
        {expirations.length > 1 && (
          <button
            type="button"
            className="link"
            onClick={() => {
              setSingle(!single);
              onPull({ ...pulled, vol: 0, by_expiration: {} });
            }}
          >
            {single ? "pull all volatilities together" : "pull each expiration by itself"}
          </button>
        )}
        <button
          type="button"
          className="link"
          title="With the price: a strike takes the volatility that its distance from the price has on its expiration's curve. At their strikes: each leg keeps its own."
          onClick={() => onPull({ ...pulled, moving: !pulled.moving })}
        >
          {pulled.moving ? "volatilities move with the price" : "volatilities stay at their strikes"}
        </button>
        <button type="button" className="link ml-auto" onClick={onReset}>
          back to now
        </button>
      </div>
    </div>
  );
}
