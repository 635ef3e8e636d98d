import type { Schemas } from "../../api/client";
import { useFigureWords } from "../../api/queries";
import { date, number, percent, plural, signed, signedPercent, tone } from "../../ui/format";
import { Figure } from "../../ui/parts";

type Figures = Schemas["FiguresOut"];

const LIKELY = "Likely: where 90 of 100 records lie that are drawn again from this one, in blocks.";

/** A figure's likely range; where there is none, why. */
function range(found: number[] | undefined, text: (value: number) => string): string {
  return found ? `${text(found[0]!)} to ${text(found[1]!)}` : "too short to say";
}

const shares = (value: number) => number(100 * value, 1);
const ratios = (value: number) => number(value, 2);

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

interface Props {
  figures: Figures;
  intervals: Record<string, number[]>;
  currency: string;
  /** What the clock is of. */
  underlying: string;
  openTrade: (number: number) => void;
  /** Shows sessions on the curve. */
  showStretch: (from: string, to: string) => void;
}

/** The main figures, each with the qualifier that keeps it honest. A figure that has a place leads to it. */
export function RunFigures({ figures, intervals, currency, underlying, openTrade, showStretch }: Props) {
  const place = (from: string | null | undefined, to: string | null | undefined) =>
    from && to ? () => showStretch(from, to) : undefined;
  const worst = figures.trades_worst_number;
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
        note={range(intervals.cagr, shares)}
        title={`${words("cagr")} ${LIKELY}`}
      />
      <Figure
        label="Drawdown"
        value={signedPercent(figures.max_drawdown)}
        tone="text-loss"
        note={range(intervals.max_drawdown, shares)}
        onOpen={place(figures.drawdown_from, figures.drawdown_to)}
        title={`${words("max_drawdown")} ${date(figures.drawdown_from)} to ${date(figures.drawdown_to)}. ${plural(figures.drawdown_sessions, "session")}${recovered}. ${LIKELY}`}
      />
      <Figure
        label="MAR"
        value={number(figures.mar, 2)}
        note={range(intervals.mar, ratios)}
        title={`${words("mar")} ${LIKELY}`}
      />
      <Figure
        label="Sharpe"
        value={number(figures.sharpe, 2)}
        note={range(intervals.sharpe, ratios)}
        title={`${words("sharpe")} ${LIKELY}`}
      />
      <Figure
        label="Won"
        value={percent(figures.trades_win_rate, 0)}
        note={`of ${number(figures.trades_count)}${figures.open_trades ? `, ${figures.open_trades} open` : ""}`}
        title={`${words("trades_win_rate")} ${range(intervals.trades_win_rate, shares)}. ${LIKELY}`}
      />
      <Figure
        label="A trade"
        value={signed(figures.trades_expectancy)}
        tone={tone(figures.trades_expectancy)}
        note={range(intervals.trades_expectancy, signed)}
        title={`${words("trades_expectancy")} ${LIKELY}`}
      />
      <Figure
        label="Worst trade"
        value={signed(figures.trades_worst)}
        tone={tone(figures.trades_worst)}
        note={`day ${signed(figures.worst_day)}`}
        onOpen={worst ? () => openTrade(worst) : undefined}
        title={`${words("trades_worst")} Worst day: ${date(figures.worst_day_date)}.`}
      />
      <p className="col-span-8 text-xs text-soft">
        <span title={LIKELY}>Ranges: likely, by records drawn again from this one</span> ·{" "}
        {figures.capital_most !== null && (
          <span title={`${words("return_on_capital")} ${words("capital_most")}`}>
            on the most capital that was needed, {number(figures.capital_most)} {currency}:{" "}
            <b className={tone(figures.return_on_capital)}>{signedPercent(figures.return_on_capital)}</b> a
            year ·{" "}
          </span>
        )}
        profit factor {number(figures.trades_profit_factor, 2)}
        {intervals.trades_profit_factor && ` (${range(intervals.trades_profit_factor, ratios)})`}, average{" "}
        {signed(figures.trades_average_win)} / {signed(figures.trades_average_loss)} · Sortino{" "}
        <span title={words("sortino")}>{number(figures.sortino, 2)}</span>
        {figures.sharpe_excess != null && (
          <span title={`${words("sharpe_excess")} ${words("money_market")}`}>
            {" "}
            · Sharpe {number(figures.sharpe_excess, 2)} in excess of the money market, which brought{" "}
            {signedPercent(figures.money_market)}
          </span>
        )}
        {figures.interest != null && (
          <span title={words("interest")}> · interest {signed(figures.interest)}</span>
        )}
        {figures.holding_cagr != null && (
          <span
            title={`${words("holding_cagr")} ${words("holding_drawdown")} ${words("beta")} ${words("correlation")}`}
          >
            {" "}
            · holding {underlying}: {signedPercent(figures.holding_cagr)} a year, drawdown{" "}
            {signedPercent(figures.holding_drawdown)}
            {figures.beta != null &&
              ` (beta ${number(figures.beta, 2)}, correlation ${number(figures.correlation, 2)})`}
          </span>
        )}
        {figures.calmar != null && <span title={words("calmar")}> · Calmar {number(figures.calmar, 2)}</span>}
        {figures.daily_tail != null && (
          <span title={`${words("daily_tail")} ${words("daily_skew")}`}>
            {" "}
            · worst days {signed(figures.daily_tail)} on average, skew {number(figures.daily_skew, 1)}
          </span>
        )}
        {figures.credit_taken > 0 &&
          ` · credit kept ${percent(figures.trades_credit_kept, 0)} of ${number(figures.credit_taken)} ${currency}`}{" "}
        · costs {number(figures.costs)} {currency}
        {figures.trades_held != null && (
          <span title={words("trades_held")}> · held {number(figures.trades_held, 1)} days on average</span>
        )}{" "}
        · in the market {percent(figures.time_in_market, 0)} of sessions · longest without a new high{" "}
        {figures.flat_from && figures.flat_to ? (
          <button
            type="button"
            className="link"
            title={`${date(figures.flat_from)} to ${date(figures.flat_to)}: show it on the curve`}
            onClick={place(figures.flat_from, figures.flat_to)}
          >
            {plural(figures.longest_flat, "session")}
          </button>
        ) : (
          plural(figures.longest_flat, "session")
        )}
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
