import { Link } from "react-router";
import { useActiveRuns, useUnderlyings } from "../../api/queries";
import { date, number, plural } from "../../ui/format";
import { ErrorNote, Skeleton } from "../../ui/parts";
import { RunProgress } from "../run/RunProgress";

export function WorkCard() {
  const active = useActiveRuns();
  return (
    <section className="card p-3.5" aria-label="Work in progress">
      <h2 className="mb-1.5 font-sans font-semibold">Work in progress</h2>
      <ErrorNote error={active.error} />
      {active.data?.length === 0 && <p className="text-soft">Nothing is running.</p>}
      {active.data?.map((run) => (
        <div key={run.id} className="mb-2">
          <Link className="link" to={`/strategies/${run.strategy}/backtest?run=${run.number}`}>
            Run {run.number} of {run.strategy_name}
          </Link>
          <RunProgress run={run} />
        </div>
      ))}
    </section>
  );
}

export function DataCard() {
  const underlyings = useUnderlyings();
  return (
    <section className="card p-3.5" aria-label="Data">
      <h2 className="mb-1.5 font-sans font-semibold">Data</h2>
      <ErrorNote error={underlyings.error} />
      {underlyings.isPending && <Skeleton className="h-8" />}
      {underlyings.data?.map((row) => (
        <p key={row.symbol} className="text-soft">
          <b className="font-semibold text-ink">{row.symbol}</b> {row.name}, {date(row.first)} to{" "}
          {date(row.last)}: {plural(row.single, "single-snapshot session")},{" "}
          {number(row.sessions - row.single)} intraday.{" "}
          {row.crossed > 0 && `${plural(row.crossed, "crossed quote")} kept and never traded on.`}
        </p>
      ))}
      {underlyings.data?.length === 0 && (
        <p className="text-soft">No data is loaded yet. ./strell demo loads some.</p>
      )}
    </section>
  );
}
