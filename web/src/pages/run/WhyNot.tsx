import { useMemo, useState } from "react";
import { Link } from "react-router";
import { useDecided } from "../../api/queries";
import { date, number, percent, plural } from "../../ui/format";
import { ErrorNote, Skeleton } from "../../ui/parts";
import { joined } from "../strategy/sentence";
import type { Run } from "../strategy/types";
import { byEntry, type Refusals } from "./refusals";

/** How often each sentence said no, by month; a month opens its days. */
export function WhyNot({ run }: { run: Run }) {
  const decided = useDecided(run.id);
  const decisions = decided.data?.decisions;
  const entries = useMemo(() => byEntry(decisions ?? [], run.sheet), [decisions, run.sheet]);
  if (!decisions)
    return decided.error ? (
      <ErrorNote error={decided.error} onRetry={() => decided.refetch()} />
    ) : (
      <Skeleton className="h-80" />
    );
  if (decisions.length === 0)
    return (
      <p className="text-soft">There was no decision time in this period: look at weekdays and times.</p>
    );
  return (
    <div className="flex flex-col gap-3">
      {entries.map((entry) => (
        <EntryTable key={entry.name} run={run} entry={entry} several={entries.length > 1} />
      ))}
    </div>
  );
}

interface EntryProps {
  run: Run;
  entry: Refusals;
  several: boolean;
}

function EntryTable({ run, entry, several }: EntryProps) {
  const [shown, setShown] = useState<{ row: string; month: string } | null>(null);
  const { months, rows, count } = entry;
  const most = Math.max(...rows.flatMap((row) => months.map((month) => row.by[month]?.length ?? 0)), 1);
  const years = [...new Set(months.map((month) => month.slice(0, 4)))];
  const chosen = rows.find((row) => row.id === shown?.row);
  const days = (shown && chosen?.by[shown.month]) || [];
  return (
    <section className="card px-4 py-3" aria-label={several ? `Why not, ${entry.name}` : "Why not"}>
      <h3 className="font-sans text-head font-semibold">
        {several ? `${entry.name}: ` : ""}
        {plural(count, "decision time")}
      </h3>
      <div className="overflow-x-auto">
        <table className="w-full border-separate border-spacing-x-px border-spacing-y-1">
          <thead>
            <tr className="text-left text-xs text-soft">
              <th scope="col" className="pr-3 font-normal">
                first to say no
              </th>
              <th scope="col" className="number pr-3 font-normal">
                times
              </th>
              {years.map((year) => (
                <th
                  key={year}
                  scope="colgroup"
                  colSpan={months.filter((month) => month.startsWith(year)).length}
                  className="border-l font-normal"
                >
                  {year}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((row) => (
              <tr key={row.id}>
                <th scope="row" className="max-w-90 truncate pr-3 text-left font-normal" title={row.title}>
                  {row.sentence !== null && <span className="mr-2 text-soft">{row.sentence}</span>}
                  <span className={row.entered ? "font-semibold text-sea" : "font-serif"}>{row.title}</span>
                </th>
                <td className="number pr-3 whitespace-nowrap">
                  {number(row.count)}{" "}
                  <span className="text-xs text-soft">{percent(row.count / count, 0)}</span>
                </td>
                {months.map((month) => {
                  const times = row.by[month]?.length ?? 0;
                  const here = shown?.row === row.id && shown.month === month;
                  return (
                    <td key={month} className="p-0">
                      <button
                        type="button"
                        className={`h-5 w-full min-w-3 rounded-xs ${here ? "outline-2 outline-ink" : ""} ${row.entered ? "bg-sea" : "bg-loss"}`}
                        style={{ opacity: times === 0 ? 0.04 : 0.2 + (0.8 * times) / most }}
                        disabled={times === 0}
                        aria-label={`${row.title} ${monthWords(month)}: ${number(times)}`}
                        title={`${monthWords(month)}: ${number(times)}`}
                        onClick={() => setShown(here ? null : { row: row.id, month })}
                      />
                    </td>
                  );
                })}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {shown && chosen && (
        <ul
          className="mt-2 max-h-52 overflow-y-auto border-t pt-2"
          aria-label={`${chosen.title} ${monthWords(shown.month)}`}
        >
          {days.map((decision) => (
            <li key={decision.at} className="flex gap-3 py-0.5">
              <Link
                className="link whitespace-nowrap"
                to={`/strategies/${run.strategy}/rules?at=${decision.local}`}
              >
                {date(decision.local)} {decision.local.slice(11)}
              </Link>
              <span className="text-soft">{joined(decision.text)}</span>
            </li>
          ))}
        </ul>
      )}
      <p className="mt-1 text-xs text-soft">
        Sentences are asked in their order; the first that says no is told, those behind it were not asked. A
        date leads to what the rules say then.
      </p>
    </section>
  );
}

function monthWords(month: string): string {
  return date(`${month}-01`).slice(2);
}
