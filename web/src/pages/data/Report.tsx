import { Link } from "react-router";
import type { Intake } from "../../api/data";
import { clock, date, number, plural } from "../../ui/format";
import { Figure } from "../../ui/parts";
import { Counts } from "./Counts";

/** What came of a file. */
export function Report({ intake }: { intake: Intake }) {
  const chains = intake.kind === "chains";
  const share = intake.rows ? intake.rejects / intake.rows : 0;
  return (
    <section className="flex flex-col gap-3" aria-label="Report">
      <div className="flex flex-wrap gap-x-9 gap-y-1">
        <Figure
          label="rows read"
          value={number(intake.rows)}
          note={intake.elapsed ? `in ${clock(intake.elapsed)}` : ""}
        />
        <Figure
          label="set aside"
          value={number(intake.rejects)}
          note={intake.rejects ? `${number(100 * share, 2)} % of the rows` : "nothing"}
          tone={share > 0.05 ? "text-loss" : ""}
        />
        {intake.rejects > 0 && (
          <a className="link self-center" href={`/api/intakes/${intake.id}/rejects.csv`}>
            Download what was set aside
          </a>
        )}
      </div>
      {intake.rejected.length > 0 && (
        <Counts rows={intake.rejected} label="Why rows were set aside" head={["Set aside because", "Rows"]} />
      )}
      {intake.symbols.map((mine) => (
        <section key={mine.symbol} className="card px-3 py-2">
          <p className="font-serif text-head leading-5.5">
            {intake.kind === "rates" || intake.kind === "series" ? (
              <b className="font-semibold">{mine.symbol}</b>
            ) : (
              <Link className="link font-semibold" to={`/data/${mine.symbol}`}>
                {mine.symbol}
              </Link>
            )}
            {mine.first && mine.last ? `, ${date(mine.first)} to ${date(mine.last)}: ` : ": "}
            {[
              mine.new && `${chains ? plural(mine.new, "session") : mine.new} new`,
              mine.changed && `${mine.changed} changed`,
              mine.same && `${mine.same} as they were`,
              mine.empty && `${mine.empty} without a usable row`,
            ]
              .filter(Boolean)
              .join(", ")}
            ; {plural(mine.quotes, chains ? "quote" : "row")}.
          </p>
          {(mine.anew ?? []).length > 0 && (
            <p className="mt-1">
              Volatilities rest on it:{" "}
              {(mine.anew ?? [])
                .map((one) => `${plural(one.sessions, "session")} of ${one.symbol}`)
                .join(", ")}{" "}
              came out otherwise and got a new version.
            </p>
          )}
          {mine.runs.length > 0 && (
            <p className="mt-1 text-loss">
              Read what was there before:{" "}
              {mine.runs.map((run, i) => (
                <span key={run.run}>
                  {i > 0 && ", "}
                  <Link className="link" to={`/strategies/${run.strategy}/backtest?run=${run.number}`}>
                    run {run.number} of {run.name}
                  </Link>
                </span>
              ))}
              .
            </p>
          )}
          {mine.findings.length > 0 && <Counts rows={mine.findings} label={`Doubtful in ${mine.symbol}`} />}
        </section>
      ))}
    </section>
  );
}
