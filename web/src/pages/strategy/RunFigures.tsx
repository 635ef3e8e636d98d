import type { Schemas } from "../../api/client";
import { useFigureWords } from "../../api/queries";
import { date, number, percent, plural, signed, signedPercent, tone } from "../../ui/format";
import { Figure } from "../../ui/parts";

type Figures = Schemas["FiguresOut"];

function interval(figures: Figures): string {
  const range = figures.cagr_interval;
  return range ? `${number(100 * range[0]!, 1)} to ${number(100 * range[1]!, 1)} likely` : "too short to say";
}

/** Trades decided in sessions of one kind: how many, how many won, what one made, the worst. */
function both(figures: Figures, kind: "intraday" | "closing"): string {
  const count = plural(figures[`${kind}_count`] ?? 0, "trade");
  const [won, each, worst] = [
    figures[`${kind}_win_rate`],
    figures[`${kind}_expectancy`],
    figures[`${kind}_worst`],
  ];
  return `${count}, ${percent(won, 0)} won, ${signed(each)} a trade, worst ${signed(worst)}`;
}

/** The main figures, each with the qualifier that keeps it honest. */
export function RunFigures({ figures, currency }: { figures: Figures; currency: string }) {
  const words = useFigureWords();
  const recovered = figures.drawdown_recovered ? "" : ", still";
  return (
    <section className="card grid grid-cols-8 gap-x-4 gap-y-2 px-4 py-2.5" aria-label="Figures of the run">
      <Figure
        label="Final equity"
        value={number(figures.final_equity)}
        note={`${currency}, from ${number(figures.start_equity)}`}
        title={words("final_equity")}
      />
      <Figure
        label="CAGR"
        value={signedPercent(figures.cagr)}
        tone={tone(figures.cagr)}
        note={interval(figures)}
        title={`${words("cagr")} Likely range: ${words("cagr_interval")}`}
      />
      <Figure
        label="Drawdown"
        value={signedPercent(figures.max_drawdown)}
        tone="text-loss"
        note={`${plural(figures.drawdown_sessions, "session")}${recovered}`}
        title={`${words("max_drawdown")} ${date(figures.drawdown_from)} to ${date(figures.drawdown_to)}.`}
      />
      <Figure label="MAR" value={number(figures.mar, 2)} note="per drawdown" title={words("mar")} />
      <Figure
        label="Sharpe"
        value={number(figures.sharpe, 2)}
        note={`Sortino ${number(figures.sortino, 2)}`}
        title={`${words("sharpe")} Sortino: ${words("sortino")}`}
      />
      <Figure
        label="Won"
        value={percent(figures.trades_win_rate, 0)}
        note={`of ${number(figures.trades_count)}${figures.open_trades ? `, ${figures.open_trades} open` : ""}`}
        title={words("trades_win_rate")}
      />
      <Figure
        label="A trade"
        value={signed(figures.trades_expectancy)}
        tone={tone(figures.trades_expectancy)}
        note={`${signed(figures.trades_average_win)} / ${signed(figures.trades_average_loss)}`}
        title={`${words("trades_expectancy")} Below: average win and loss.`}
      />
      <Figure
        label="Worst trade"
        value={signed(figures.trades_worst)}
        tone={tone(figures.trades_worst)}
        note={`day ${signed(figures.worst_day)}`}
        title={`${words("trades_worst")} Worst day: ${date(figures.worst_day_date)}.`}
      />
      <p className="col-span-8 text-xs text-soft">
        {figures.capital_most !== null && (
          <span title={`${words("return_on_capital")} ${words("capital_most")}`}>
            On the most capital that was needed, {number(figures.capital_most)} {currency}:{" "}
            <b className={tone(figures.return_on_capital)}>{signedPercent(figures.return_on_capital)}</b> a
            year ·{" "}
          </span>
        )}
        Profit factor {number(figures.trades_profit_factor, 2)}{" "}
        {figures.credit_taken > 0 &&
          ` · credit kept ${percent(figures.trades_credit_kept, 0)} of ${number(figures.credit_taken)} ${currency}`}{" "}
        · costs {number(figures.costs)} {currency} · in the market {percent(figures.time_in_market, 0)} of
        sessions · longest without a new high {plural(figures.longest_flat, "session")}
        {figures.stale_sessions > 0 &&
          ` · ${plural(figures.stale_sessions, "session")} valued at an older mark`}
        {!!figures.intraday_count && !!figures.closing_count && (
          <>
            <br />
            Decided intraday {both(figures, "intraday")} · on closing prices {both(figures, "closing")}
          </>
        )}
      </p>
    </section>
  );
}
