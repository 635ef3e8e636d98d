import type { Schemas } from "../../api/client";
import { useCourse } from "../../api/runs";
import { RollingSharpe, RollingWon } from "../../charts/CourseCharts";
import { number, signed, signedPercent, tone } from "../../ui/format";
import { ErrorNote, Skeleton } from "../../ui/parts";
import { Th } from "../../ui/Th";
import type { Run } from "../strategy/types";
import { RunCauses } from "./Causes";

const MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

/** A run through time: month by month, and figures of the stretch before each day. */
export function Course({ run, currency }: { run: Run; currency: string }) {
  const course = useCourse(run.id);
  if (course.error) return <ErrorNote error={course.error} onRetry={() => course.refetch()} />;
  if (!course.data) return <Skeleton className="h-80" />;
  return (
    <div className="flex flex-col gap-3">
      {course.data.causes && <RunCauses causes={course.data.causes} currency={currency} />}
      <MonthTable months={course.data.months} currency={currency} />
      <div className="grid grid-cols-2 gap-3">
        <section className="card min-w-0 px-2 py-2" aria-label="Rolling Sharpe ratio">
          <b className="px-1 font-semibold">Sharpe ratio of the {course.data.sessions} sessions before</b>
          <RollingSharpe course={course.data} />
        </section>
        <section className="card min-w-0 px-2 py-2" aria-label="Rolling share of trades won">
          <b className="px-1 font-semibold">Won, of the {number(course.data.trades)} trades before</b>
          <RollingWon course={course.data} />
        </section>
      </div>
    </div>
  );
}

function MonthTable({ months, currency }: { months: Schemas["MonthOut"][]; currency: string }) {
  const years = [...new Set(months.map((month) => month.year))];
  const most = Math.max(...months.map((month) => Math.abs(month.pnl)), 1);
  return (
    <section className="card overflow-x-auto" aria-label="Months">
      <table className="plain">
        <thead>
          <tr>
            <Th>P/L by month, {currency}</Th>
            {MONTHS.map((name) => (
              <Th key={name} className="number">
                {name}
              </Th>
            ))}
            <Th className="number">Year</Th>
          </tr>
        </thead>
        <tbody>
          {years.map((year) => {
            const own = months.filter((month) => month.year === year);
            const total = own.reduce((sum, month) => sum + month.pnl, 0);
            return (
              <tr key={year}>
                <td className="font-semibold">{year}</td>
                {MONTHS.map((name, i) => {
                  const month = own.find((item) => item.month === i + 1);
                  const strength = month ? Math.round((30 * Math.abs(month.pnl)) / most) : 0;
                  return (
                    <td
                      key={name}
                      className="number"
                      title={
                        month ? `${name} ${year}: ${signedPercent(month.share, 2)} of equity` : undefined
                      }
                      style={
                        month && {
                          background: `color-mix(in srgb, var(--${month.pnl < 0 ? "loss" : "gain"}) ${strength}%, transparent)`,
                        }
                      }
                    >
                      {month ? signed(month.pnl) : ""}
                    </td>
                  );
                })}
                <td className={`number font-semibold ${tone(total)}`}>{signed(total)}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </section>
  );
}
