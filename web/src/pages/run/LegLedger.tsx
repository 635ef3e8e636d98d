import { Fragment, useState } from "react";
import type { Schemas } from "../../api/client";
import { number, signed, tone } from "../../ui/format";
import { Th } from "../../ui/Th";
import { lines } from "./holdings";

type Leg = Schemas["LegDetail"];

function Side({ side, price }: { side: Schemas["LegSide"]; price: number }) {
  return (
    <>
      <td className="number font-semibold">{number(price, 2)}</td>
      <td className="number text-soft">
        {number(side.bid, 2)} / {number(side.ask, 2)}
      </td>
      <td className="number">{number(side.iv, 1)}</td>
      <td className="number">{number(side.delta, 3)}</td>
      <td className="number">{number(side.theta, 2)}</td>
      <td className="number">{number(side.vega, 2)}</td>
    </>
  );
}

function Made({ pnl }: { pnl: number }) {
  return <td className={`number font-medium ${tone(pnl)}`}>{signed(pnl, 2)}</td>;
}

/** Each leg with its price, quotes and Greeks at entry and at exit. */
export function LegLedger({ legs, currency }: { legs: Leg[]; currency: string }) {
  const [unfolded, setUnfolded] = useState(false);
  const heads = ["Price", "Bid / ask", "IV", "Delta", "Theta", "Vega"];
  return (
    <section className="card overflow-x-auto" aria-label="Legs at entry and exit">
      <table className="plain">
        <thead>
          <tr>
            <Th />
            <th scope="colgroup" colSpan={6} className="border-l text-center">
              At entry
            </th>
            <th scope="colgroup" colSpan={6} className="border-l text-center">
              At exit
            </th>
            <Th />
          </tr>
          <tr>
            <Th>Leg</Th>
            {["entry", "exit"].flatMap((side) =>
              heads.map((head) => (
                <Th key={side + head} className="number">
                  {head}
                </Th>
              )),
            )}
            <Th className="number">P/L {currency}</Th>
          </tr>
        </thead>
        <tbody>
          {lines(legs).map((line) => {
            const several = line.legs.length > 1;
            const shown = several && !unfolded ? [] : line.legs;
            return (
              <Fragment key={line.legs[0]!.place}>
                {several && (
                  <tr>
                    <td colSpan={13}>
                      <button
                        type="button"
                        className="link"
                        aria-expanded={unfolded}
                        onClick={() => setUnfolded(!unfolded)}
                      >
                        {line.label}
                      </button>
                    </td>
                    <Made pnl={line.legs.reduce((sum, { leg }) => sum + leg.pnl, 0)} />
                  </tr>
                )}
                {shown.map(({ leg, place }) => (
                  <tr key={place}>
                    <td className="whitespace-nowrap">
                      <b className={`font-semibold ${leg.contracts > 0 ? "text-sea" : "text-loss"}`}>
                        {signed(leg.contracts)}
                      </b>{" "}
                      {leg.label}
                      {leg.opened_shown && (
                        <span className="block text-xs text-soft">
                          {leg.opened_shown} – {leg.closed_shown}
                        </span>
                      )}
                    </td>
                    <Side side={leg.entry} price={leg.opened} />
                    <Side side={leg.exit} price={leg.closed} />
                    <Made pnl={leg.pnl} />
                  </tr>
                ))}
              </Fragment>
            );
          })}
        </tbody>
      </table>
    </section>
  );
}
