import { useMemo, useState } from "react";
import type { Schemas } from "../../api/client";
import type { Surface } from "../../api/market";
import { SmileChart } from "../../charts/SmileChart";
import { TermChart } from "../../charts/TermChart";
import { day, number } from "../../ui/format";

/** Volatility by strike and by term, with how well the curves meet the quotes. */
export function Curves({ surface, expiration }: { surface: Surface; expiration: string | null }) {
  const [view, setView] = useState<"strike" | "term">("strike");
  const chosen = surface.expirations.find((row) => row.date === expiration);
  const beside = useMemo(() => {
    const others = surface.expirations.filter((row) => row.curve && row.date !== expiration);
    const at = surface.expirations.findIndex((row) => row.date === expiration);
    const later = others.find((row) => surface.expirations.indexOf(row) >= at + 5) ?? others.at(-1);
    return later ? [later] : [];
  }, [surface, expiration]);
  const tab = (name: typeof view, text: string) => (
    <button
      type="button"
      aria-pressed={view === name}
      className={view === name ? "font-semibold" : "link"}
      onClick={() => setView(name)}
    >
      {text}
    </button>
  );
  return (
    <section className="card px-3 pt-2 pb-1.5" aria-label="Volatility">
      <div className="flex items-baseline gap-4">
        {tab("strike", "Volatility by strike")}
        {tab("term", "By term")}
        <span className="ml-auto truncate text-xs text-soft">
          {surface.terms.map((term) => `${term.days} d ${number(term.vol, 1)} %`).join(" · ")}
        </span>
      </div>
      {view === "term" ? (
        <TermChart fitted={surface.expirations} height={168} />
      ) : chosen?.curve ? (
        <>
          <SmileChart chosen={chosen} beside={beside} spot={surface.spot} height={150} />
          <p className="text-xs text-soft">{fits(chosen.curve, chosen.date)}</p>
        </>
      ) : (
        <p className="py-12 text-center text-soft">
          {chosen ? `${day(chosen.date)} has` : "There are"} fewer than five quotes with a volatility; no
          curve is drawn through them.
        </p>
      )}
    </section>
  );
}

function fits(curve: Schemas["VolatilityCurveOut"], date: string): string {
  const safe = curve.free_of_arbitrage ? "Free of arbitrage" : "Not free of arbitrage, use it with care";
  return `${day(date)}: ${curve.inside} of ${curve.quotes} quotes have the curve between bid and ask; it misses their volatilities by ${number(curve.typical, 2)} points as a rule, by ${number(curve.worst, 2)} at ${number(curve.worst_strike)}. ${safe}.`;
}
