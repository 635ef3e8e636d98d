import type { Schemas } from "../api/client";
import { number, signed, tone } from "./format";
import { LegGlyph } from "./LegGlyph";

type Trade = Schemas["TradeOutlook"];
type Rule = Schemas["RuleOut"];
type Adjustment = Schemas["AdjustmentOut"];

/** How far the exits and adjustments of a trade are, and what the latter would do now. */
export function Outlook({ trade }: { trade: Trade }) {
  if (!trade.exits.length && !trade.adjustments.length && trade.leaving === null)
    return (
      <p className="text-soft">
        No exit is asked: the position's legs are not quoted together now, or the sheet has none.
      </p>
    );
  return (
    <ol aria-label={`Rules of trade ${trade.number}`}>
      {trade.leaving !== null && (
        <li className="text-loss">
          {trade.leaving ? `Sentence ${trade.leaving} is closing it.` : "It is being closed."}
        </li>
      )}
      {trade.exits.map((rule) => (
        <Line key={rule.id} rule={rule} acts={rule.truth === "true"} />
      ))}
      {trade.adjustments.map((rule) => (
        <Line key={rule.id} rule={rule} acts={rule.truth === "true" && rule.asked && !!rule.does}>
          <Does rule={rule} currency={trade.currency} />
        </Line>
      ))}
    </ol>
  );
}

function Line({ rule, acts, children }: { rule: Rule; acts: boolean; children?: React.ReactNode }) {
  return (
    <li
      title={rule.sentence}
      className={`-mx-3 grid grid-cols-[--spacing(5.5)_1fr_--spacing(14.5)] gap-1 px-3 py-0.5 ${acts ? "bg-mark" : ""}`}
    >
      <span className="text-soft">{rule.number ?? "·"}</span>
      <span>
        {rule.text}
        {children}
      </span>
      <span className={`text-right ${acts ? "font-semibold text-loss" : "text-soft"}`}>{rule.truth}</span>
    </li>
  );
}

/** What an adjustment would close and open now, for how much, and what is held then. */
function Does({ rule, currency }: { rule: Adjustment; currency: string }) {
  const does = rule.does;
  const instead = rule.otherwise ? ` It would ${rule.otherwise} instead.` : "";
  if (!does) return <span className="block text-soft">Now nothing quoted would fit.{instead}</span>;
  const when = rule.truth === "true" ? (rule.asked ? "Now it" : "At its next look it") : "If it were true it";
  const dealt = does.legs.map((leg) => {
    const verb = leg.contracts > 0 ? "buys" : "sells";
    const price = leg.price === null ? "not to be dealt now" : `at ${number(leg.price, 2)}`;
    return `${verb} ${Math.abs(leg.contracts)} ${leg.label} ${price}`;
  });
  return (
    <span className="block text-soft">
      {when} {dealt.join(", ")}
      {does.cash !== null && (
        <>
          : <span className={tone(does.cash)}>{signed(does.cash, 0)}</span> {currency}
        </>
      )}
      . Delta {signed(does.delta_before, 1)} → {signed(does.delta_after, 1)}, capital{" "}
      {number(does.capital_before)} → {number(does.capital_after)}.
      {does.refused && (
        <span className="text-loss">
          {" "}
          Refused: it {does.refused}.{instead}
        </span>
      )}
      <span className="block">
        <LegGlyph glyph={does.glyph} />
      </span>
    </span>
  );
}
