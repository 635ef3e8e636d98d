import { useState } from "react";
import type { Schemas } from "../../api/client";
import { day, number } from "../../ui/format";
import { Th } from "../../ui/Th";
import type { Sentence } from "./document";

type Choice = Schemas["ChoiceOut"];

function expirationsText(choice: Choice): string {
  if (choice.right === "unit") return "The underlying itself: as many units as one option delivers.";
  const [first, ...others] = choice.expirations;
  if (!first) return "no listed expiration fits";
  const further = others.map((other) => `${day(other.date)} (${other.days})`).join(", ");
  return `${day(first.date)}, ${first.days} days${further ? `; further: ${further}` : ""}`;
}

/** The strikes each leg looked at: the one picked and its runners-up. */
export function Candidates({ legs, sheet }: { legs: Choice[]; sheet: Sentence[] }) {
  const [chosen, setChosen] = useState(0);
  const leg = legs[Math.min(chosen, legs.length - 1)];
  const numberOf = (id: string) => sheet.find((sentence) => sentence.id === id)?.number;
  if (!leg)
    return <section className="card p-4 text-soft">No leg was looked at: a sentence said no before.</section>;
  return (
    <section className="card min-w-0 pt-2" aria-label="Candidates">
      <div className="flex flex-wrap gap-1 px-3" role="tablist" aria-label="Leg">
        {legs.map((item, i) => (
          <button
            key={item.id}
            type="button"
            role="tab"
            aria-selected={item === leg}
            className={`pill ${item === leg ? "border-sea font-semibold text-sea" : ""}`}
            onClick={() => setChosen(i)}
          >
            {numberOf(item.id)} {item.right === "unit" ? "underlying" : (item.right ?? "leg")}
          </button>
        ))}
      </div>
      <p className="truncate px-3 py-1 text-xs text-soft" title={expirationsText(leg)}>
        {expirationsText(leg)}
      </p>
      {leg.message && <p className="px-3 py-2 text-loss">{leg.message}</p>}
      {leg.candidates.length > 0 && (
        <table className="plain">
          <thead>
            <tr>
              <Th className="number">Strike</Th>
              <Th className="number">Delta</Th>
              <Th className="number">Bid</Th>
              <Th className="number">Ask</Th>
              <Th className="number">IV</Th>
              <Th className="number">Open int.</Th>
              <Th aria-label="Rank" />
            </tr>
          </thead>
          <tbody>
            {leg.candidates.map((row) => (
              <tr key={row.strike} className={row.picked ? "bg-seawash font-semibold" : ""}>
                <td className="number">{number(row.strike)}</td>
                <td className="number">{number(row.delta, 3)}</td>
                <td className="number">{number(row.bid, 2)}</td>
                <td className="number">{number(row.ask, 2)}</td>
                <td className="number">{number(row.iv, 1)}</td>
                <td className="number">{number(row.open_interest)}</td>
                <td className="text-xs">{row.picked ? "picked" : row.rank === 1 ? "next" : ""}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}
