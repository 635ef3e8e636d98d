import { useMemo } from "react";
import { Link, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useFigureWords, useTerms } from "../../api/queries";
import { useCompared } from "../../api/runs";
import { OverlayChart, STROKE_WORDS } from "../../charts/OverlayChart";
import { date, number, percent, plural, signed, signedPercent, tone } from "../../ui/format";
import { Empty, ErrorNote, Skeleton } from "../../ui/parts";
import { Th } from "../../ui/Th";
import { joined } from "../strategy/sentence";
import { RunPicker } from "./RunPicker";

type Compared = Schemas["CompareOut"];
type ComparedRun = Schemas["ComparedRun"];
type Figures = Schemas["FiguresOut"];

const MOST = 8;
const money = (value: number) => signed(value);
const share = (value: number) => signedPercent(value);
const ratio = (value: number) => number(value, 2);
const whole = (value: number) => number(value);
const points = (value: number) => `${number(100 * value, 1)} points`;

interface Row {
  id: keyof Figures;
  title: string;
  text: (value: number) => string;
  /** How a difference is written, where not like the figure itself. */
  apart?: (value: number) => string;
}

/** Figures that are set side by side. */
const ROWS: Row[] = [
  { id: "final_equity", title: "Final equity", text: whole },
  { id: "cagr", title: "CAGR", text: share, apart: points },
  { id: "return_on_capital", title: "Return on capital", text: share, apart: points },
  { id: "max_drawdown", title: "Drawdown", text: share, apart: points },
  { id: "mar", title: "MAR", text: ratio },
  { id: "sharpe", title: "Sharpe", text: ratio },
  { id: "sortino", title: "Sortino", text: ratio },
  { id: "trades_count", title: "Trades", text: whole },
  { id: "trades_win_rate", title: "Won", text: (value) => percent(value, 0), apart: points },
  { id: "trades_expectancy", title: "A trade", text: money },
  { id: "trades_profit_factor", title: "Profit factor", text: ratio },
  { id: "trades_worst", title: "Worst trade", text: money },
  { id: "daily_tail", title: "Mean of the worst days", text: money },
  { id: "capital_most", title: "Capital, most", text: whole },
  { id: "time_in_market", title: "In the market", text: (value) => percent(value, 0), apart: points },
  { id: "longest_flat", title: "Longest without a new high", text: whole },
  { id: "costs", title: "Costs", text: whole },
];

/** Two to eight runs side by side; the first is what the others are compared with. */
export function ComparePage() {
  const [query, setQuery] = useSearchParams();
  const ids = query.getAll("run").map(Number).filter(Number.isInteger);
  const found = useCompared(ids);
  const choose = (runs: number[]) => setQuery({ run: runs.map(String) });
  const shown = ids.length > 1 ? found.data : undefined;
  return (
    <div className="mx-auto flex max-w-400 flex-col gap-3 px-4.5 py-3">
      <div className="flex flex-wrap items-center gap-3">
        <h1 className="text-title font-semibold">Compare runs</h1>
        {shown && (
          <a
            className="link order-last ml-auto"
            href={`/api/compare/report.html?${ids.map((id) => `run=${id}`).join("&")}`}
          >
            Report on paper, HTML
          </a>
        )}
        <RunPicker chosen={ids} full={ids.length >= MOST} onChosen={(id) => choose([...ids, id])} />
      </div>
      <ErrorNote error={ids.length > 1 ? found.error : null} onRetry={() => found.refetch()} />
      {ids.length < 2 && (
        <div className="card">
          <Empty
            title={
              ids.length === 0 ? "No run chosen yet." : "One more run, and there is something to compare."
            }
          >
            Choose a finished run above: another of the same strategy, after a change, or one of another
            strategy.
          </Empty>
        </div>
      )}
      {ids.length > 1 && !shown && !found.error && <Skeleton className="h-96" />}
      {shown && (
        <Side
          found={shown}
          drop={(id) => choose(ids.filter((item) => item !== id))}
          first={(id) => choose([id, ...ids.filter((item) => item !== id)])}
        />
      )}
    </div>
  );
}

const nameOf = (run: ComparedRun) =>
  `${run.strategy_name}, run ${run.number}${run.name ? ` “${run.name}”` : ""}`;

interface SideProps {
  found: Compared;
  drop: (id: number) => void;
  first: (id: number) => void;
}

function Side({ found, drop, first }: SideProps) {
  const { runs } = found;
  const curves = useMemo(
    () =>
      runs.map((run) => ({
        name: nameOf(run),
        dates: run.curve.dates ?? [],
        equity: run.curve.equity ?? [],
        start: run.cash,
      })),
    [runs],
  );
  return (
    <div className={`grid gap-3 ${runs.length < 4 ? "grid-cols-[auto_minmax(0,1fr)]" : ""}`}>
      <FigureTable runs={runs} drop={drop} first={first} />
      <div className="flex min-w-0 flex-col gap-3">
        <section className="card px-2 py-2" aria-label="Equity side by side">
          <p className="flex flex-wrap gap-x-4 px-2 text-xs font-medium">
            {runs.map((run, i) => (
              <span key={run.id} className={STROKE_WORDS[i % 4]}>
                {i < 4 ? "—" : "- -"} {nameOf(run)}
              </span>
            ))}
            <span className="ml-auto pr-24 font-normal text-soft">
              equity, each from 100; drag to zoom, double-click for all
            </span>
          </p>
          <OverlayChart curves={curves} />
        </section>
        {found.differences.map((difference) => {
          const run = runs.find((item) => item.id === difference.run);
          return run && <Apart key={run.id} run={run} base={runs[0]!} difference={difference} />;
        })}
        <Sentences found={found} />
      </div>
    </div>
  );
}

function FigureTable({
  runs,
  drop,
  first,
}: {
  runs: ComparedRun[];
  drop: (id: number) => void;
  first: (id: number) => void;
}) {
  const words = useFigureWords();
  const base = runs[0]!.figures;
  return (
    <section className="card overflow-x-auto self-start" aria-label="Figures side by side">
      <table className="plain">
        <thead>
          <tr>
            <Th>Figure</Th>
            {runs.map((run, i) => (
              <Th key={run.id} className="number align-top">
                <Link
                  className={`font-semibold ${STROKE_WORDS[i % 4]}`}
                  to={`/strategies/${run.strategy}/backtest?run=${run.number}`}
                >
                  {nameOf(run)}
                </Link>
                <br />
                {run.underlying}, revision {run.revision}
                <br />
                <span title={`${date(run.start)} – ${date(run.end)}`}>
                  {i === 0 ? (
                    "the baseline"
                  ) : (
                    <button type="button" className="link" onClick={() => first(run.id)}>
                      make it the baseline
                    </button>
                  )}
                  {" · "}
                  <button
                    type="button"
                    className="link"
                    aria-label={`Leave out ${nameOf(run)}`}
                    onClick={() => drop(run.id)}
                  >
                    ×
                  </button>
                </span>
              </Th>
            ))}
          </tr>
        </thead>
        <tbody>
          {ROWS.map((row) => (
            <tr key={row.id}>
              <td title={words(row.id)}>{row.title}</td>
              {runs.map((run, i) => {
                const value = run.figures?.[row.id] as number | null | undefined;
                const before = base?.[row.id] as number | null | undefined;
                const likely = run.intervals[row.id];
                return (
                  <td
                    key={run.id}
                    className="number"
                    title={likely && `${row.text(likely[0]!)} to ${row.text(likely[1]!)} likely`}
                  >
                    {value == null ? "–" : row.text(value)}
                    {i > 0 && value != null && before != null && value !== before && (
                      <span className="text-soft">
                        {" "}
                        ({value > before ? "+" : ""}
                        {(row.apart ?? row.text)(value - before).replace(/^\+/, "")})
                      </span>
                    )}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Sentences({ found }: { found: Compared }) {
  if (found.sentences.length === 0)
    return (
      <p className="text-soft">The rules are the same; what differs is the period, the cash or the data.</p>
    );
  return (
    <section className="card" aria-label="Rules that differ">
      <table className="plain">
        <thead>
          <tr>
            <Th>
              <b className="font-semibold text-ink">Rules that differ</b>
            </Th>
            {found.runs.map((run, i) => (
              <Th key={run.id} className={STROKE_WORDS[i % 4]}>
                {nameOf(run)}
              </Th>
            ))}
          </tr>
        </thead>
        <tbody>
          {found.sentences.map((row, n) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: rows of one answer
            <tr key={n}>
              <td className="text-soft first-letter:uppercase">{row.section}</td>
              {row.texts.map((text, i) => (
                <td key={found.runs[i]!.id} className="py-1 font-serif">
                  {(text && joined(text)) ?? <span className="text-soft">–</span>}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** Whether a run differs from the first by more than chance, in words. */
function verdict(difference: Schemas["DifferenceOut"]): string {
  const { chance, likely } = difference;
  if (chance === null || !likely) return "Too few sessions in common to tell it from chance.";
  const cases = chance < 0.01 ? "fewer than 1 of 100 cases" : `${number(100 * chance)} of 100 cases`;
  return `Two runs that are as good as each other differ by as much in ${cases}: ${chance < 0.05 ? "more than chance" : "no more than chance"}.`;
}

function Apart({
  run,
  base,
  difference,
}: {
  run: ComparedRun;
  base: ComparedRun;
  difference: Schemas["DifferenceOut"];
}) {
  const { currency } = useTerms(run.underlying);
  return (
    <section className="card px-4 py-3" aria-label={`${nameOf(run)} against ${nameOf(base)}`}>
      <h2 className="font-sans text-head font-semibold">
        {nameOf(run)} against {nameOf(base)}
      </h2>
      {difference.yearly === null ? (
        <p>They have no session in common.</p>
      ) : (
        <p>
          On {plural(difference.sessions, "session")} in common it made{" "}
          <b className={tone(difference.yearly)}>{percent(Math.abs(difference.yearly))}</b> a year{" "}
          {difference.yearly < 0 ? "less" : "more"}
          {difference.likely &&
            ` (difference ${signedPercent(difference.likely[0])} to ${signedPercent(difference.likely[1])} likely)`}
          . {verdict(difference)}
        </p>
      )}
      <p className="text-soft">
        Days on which both entered: {number(difference.both)}, apart by {signed(difference.both_apart)}{" "}
        {currency} in all. Only here: {number(difference.only)}, which made {signed(difference.only_made)}.
        Only there: {number(difference.base_only)}, which made {signed(difference.base_only_made)}.
      </p>
      {difference.days.length > 0 && (
        <div className="mt-2 max-h-60 overflow-y-auto">
          <table className="plain">
            <thead>
              <tr>
                <Th>Entered on, where they part most</Th>
                <Th className="number">{nameOf(run)}</Th>
                <Th className="number">{nameOf(base)}</Th>
                <Th className="number">Apart</Th>
              </tr>
            </thead>
            <tbody>
              {difference.days.map((day) => (
                <tr key={day.date}>
                  <td>{date(day.date)}</td>
                  <td className={`number ${tone(day.one)}`}>
                    {day.one === null ? "no entry" : signed(day.one)}
                  </td>
                  <td className={`number ${tone(day.other)}`}>
                    {day.other === null ? "no entry" : signed(day.other)}
                  </td>
                  <td className={`number ${tone(day.apart)}`}>{signed(day.apart)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
