import { type FormEvent, useState } from "react";
import { useNavigate } from "react-router";
import { Refusal } from "../../api/client";
import { type Coverage, useCopy, useCoverage, useRemove, useUndoRemoval } from "../../api/data";
import { DateField } from "../../ui/DateField";
import { date, number, percent, plural } from "../../ui/format";
import { Empty, ErrorNote, Figure, Skeleton } from "../../ui/parts";
import { tell, tellError } from "../../ui/toast";
import { Beside } from "./Beside";
import { Counts } from "./Counts";
import { Periods } from "./Periods";

/** What there is of one underlying: terms, days, gaps, quality; a range out of it. */
export function CoverageView({ symbol }: { symbol: string }) {
  const coverage = useCoverage(symbol);
  const undo = useUndoRemoval();
  if (coverage.error && !coverage.data)
    return <ErrorNote error={coverage.error} onRetry={() => coverage.refetch()} />;
  const seen = coverage.data;
  if (!seen) return <Skeleton className="h-[70vh]" />;
  const single = seen.days.filter((day) => day.snapshots === 1).length;
  return (
    <div className="flex flex-col gap-3">
      <header>
        <h2 className="font-serif text-title font-semibold">
          {symbol} <span className="font-normal text-soft">{seen.name === symbol ? "" : seen.name}</span>
        </h2>
        <p className="mt-0.5 font-serif text-head leading-5.5">{terms(seen)}</p>
        <Whose seen={seen} />
        <Periods seen={seen} />
      </header>
      {seen.removals.map((removal) => (
        <p key={removal.id} role="status" className="rounded-card border bg-mark px-3 py-1.5">
          {plural(removal.sessions, "session")} from {date(removal.start)} to {date(removal.end)} were taken
          out.{" "}
          <button
            type="button"
            className="link"
            onClick={() =>
              undo.mutate(removal.id, { onSuccess: () => tell("They are back."), onError: tellError })
            }
          >
            Undo
          </button>
        </p>
      ))}
      <div className={seen.days.length === 0 ? "hidden" : "flex flex-wrap gap-x-9 gap-y-1"}>
        <Figure
          label="sessions"
          value={number(seen.sessions)}
          note={single ? `${number(single)} with one snapshot` : "all with several snapshots"}
        />
        <Figure label="quotes" value={millions(seen.quotes)} note="contracts × snapshots" />
        <Figure
          label="storage"
          value={`${number(seen.size / 1e6, 1)} MB`}
          note={
            seen.bytes_a_quote === null
              ? ""
              : `${number(seen.bytes_a_quote, 2)} bytes a quote${seen.extras_a_quote ? `, ${number(seen.extras_a_quote, 2)} beside` : ""}`
          }
        />
        <Figure
          label="missing sessions"
          value={number(seen.gaps.reduce((sum, gap) => sum + gap.sessions, 0))}
          note={`of the calendar ${seen.calendar}`}
        />
        <Figure
          label="doubtful"
          value={number(seen.days.reduce((sum, day) => sum + day.doubtful, 0))}
          note={doubtfulShare(seen)}
        />
      </div>
      {seen.days.length === 0 ? (
        seen.removals.length > 0 ? (
          <Empty title="Nothing of it is current.">What was taken out can be brought back above.</Empty>
        ) : (
          <p className="text-soft">No option chains of it are loaded.</p>
        )
      ) : (
        <Days seen={seen} />
      )}
      <div className={seen.days.length === 0 ? "hidden" : "grid grid-cols-2 gap-3"}>
        <section className="card" aria-label="Quality">
          <h3 className="border-b px-3 py-1.5 text-xs text-soft">
            What was noticed, counted over everything
          </h3>
          {seen.quality.length === 0 ? (
            <p className="px-3 py-2 text-soft">Nothing was found.</p>
          ) : (
            <Counts rows={seen.quality} label="What was noticed" />
          )}
          {seen.gaps.length > 0 && (
            <>
              <h3 className="border-y px-3 py-1.5 text-xs text-soft">Missing</h3>
              <ul className="max-h-40 overflow-y-auto px-3 py-1.5">
                {seen.gaps.map((gap) => (
                  <li key={gap.start}>
                    {gap.sessions === 1 ? date(gap.start) : `${date(gap.start)} to ${date(gap.end)}`}
                    {gap.sessions > 1 && (
                      <span className="text-soft"> · {plural(gap.sessions, "session")}</span>
                    )}
                  </li>
                ))}
              </ul>
            </>
          )}
        </section>
        {seen.first && seen.last && <Range seen={seen} first={seen.first} last={seen.last} />}
      </div>
      <Beside seen={seen} />
    </div>
  );
}

/** Whose data it is, and the way to a copy of one's own. */
function Whose({ seen }: { seen: Coverage }) {
  const [open, setOpen] = useState(false);
  const [symbol, setSymbol] = useState("");
  const copy = useCopy(seen.symbol);
  const go = useNavigate();
  function submit(event: FormEvent) {
    event.preventDefault();
    copy.mutate(symbol.trim().toUpperCase(), {
      onSuccess: (made) => {
        tell(`${made.symbol} is yours. Its quotes can be read in a moment.`);
        go(`/data/${encodeURIComponent(made.symbol)}`);
      },
    });
  }
  return (
    <div className="text-soft">
      {seen.mine
        ? "Loaded by you; only you change it."
        : seen.shared
          ? "Shared; the operator changes it."
          : ""}
      {!seen.mine && !seen.shared && "Loaded by somebody else, who alone changes it."}{" "}
      {seen.sessions > 0 && (
        <button type="button" className="link" aria-expanded={open} onClick={() => setOpen(!open)}>
          Make a copy of my own
        </button>
      )}
      {open && (
        <form className="mt-1 flex items-center gap-2" aria-label="A copy" onSubmit={submit}>
          <input
            className="field w-36"
            aria-label="Symbol of the copy"
            placeholder={`${seen.symbol}.1`.slice(0, 16)}
            maxLength={16}
            value={symbol}
            onChange={(event) => setSymbol(event.target.value)}
          />
          <button type="submit" className="button" disabled={!symbol.trim() || copy.isPending}>
            {copy.isPending ? "Copying" : "Copy"}
          </button>
          {copy.error && (
            <span role="alert" className="text-loss">
              {copy.error.message}
            </span>
          )}
        </form>
      )}
    </div>
  );
}

function terms(seen: Coverage): string {
  if (seen.sessions === 0 && seen.removals.length === 0)
    return `${seen.kind.charAt(0).toUpperCase()}${seen.kind.slice(1)} in ${seen.currency}; calendar ${seen.calendar} (${seen.zone}).`;
  const style = seen.american ? "American options" : "European options";
  return (
    `${style} on ${seen.kind === "index" ? "an" : "a"} ${seen.kind}, multiplier ${number(seen.multiplier)}, ` +
    `prices in steps of ${seen.quantum} ${seen.currency}, settled ${seen.settles}; ` +
    `calendar ${seen.calendar} (${seen.zone}), interest ${percent(seen.rate)} a year.`
  );
}

const millions = (value: number) =>
  value < 1e6 ? number(value) : `${number(value / 1e6, value < 1e8 ? 1 : 0)} million`;

function doubtfulShare(seen: Coverage): string {
  const worst = seen.days.filter((day) => day.doubtful > 0).length;
  return worst ? `in ${plural(worst, "session")}` : "nothing found";
}

const CELL = 11;
const MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

/** Every day of every year: months down, days across; the darker the more snapshots. */
function Days({ seen }: { seen: Coverage }) {
  const years = [...new Set(seen.days.map((day) => day.date.slice(0, 4)))];
  const most = Math.max(...seen.days.map((day) => day.snapshots));
  const gaps = new Set(seen.gaps.flatMap((gap) => between(gap.start, gap.end)));
  const shade = (snapshots: number) =>
    most <= 1 ? 0.55 : 0.25 + 0.75 * (Math.log(snapshots) / Math.log(most));
  return (
    <section className="card px-3 py-2" aria-label="Coverage by day">
      <div className="flex flex-wrap gap-x-5 gap-y-2">
        {years.map((year) => {
          const days = seen.days.filter((day) => day.date.startsWith(year));
          return (
            <svg
              key={year}
              width={31 * CELL + 30}
              height={12 * CELL + 18}
              role="img"
              aria-label={`${year}: ${plural(days.length, "session")}`}
            >
              <text x={28} y={10} fontSize={11} fontWeight={600} fill="var(--ink)">
                {year}
              </text>
              {MONTHS.map((month, i) => (
                <text key={month} x={0} y={16 + i * CELL + 9} fontSize={9} fill="var(--soft)">
                  {month}
                </text>
              ))}
              {days.map((day) => {
                const [, month, at] = day.date.split("-").map(Number);
                const x = 28 + (at! - 1) * CELL;
                const y = 16 + (month! - 1) * CELL;
                return (
                  <g key={day.date}>
                    <rect
                      x={x}
                      y={y}
                      width={CELL - 1}
                      height={CELL - 1}
                      fill="var(--sea)"
                      fillOpacity={shade(day.snapshots)}
                    >
                      <title>
                        {`${date(day.date)}: ${plural(day.snapshots, "snapshot")}, ${number(day.contracts)} contracts`}
                        {day.version > 1 ? `, version ${day.version}` : ""}
                        {day.doubtful ? `, ${number(day.doubtful)} doubtful` : ""}
                      </title>
                    </rect>
                    {day.version > 1 && (
                      <rect
                        x={x + 3}
                        y={y + 3}
                        width={4}
                        height={4}
                        fill="var(--surface)"
                        pointerEvents="none"
                      />
                    )}
                  </g>
                );
              })}
              {[...gaps]
                .filter((gap) => gap.startsWith(year))
                .map((gap) => {
                  const [, month, at] = gap.split("-").map(Number);
                  return (
                    <path
                      key={gap}
                      d={`M${28 + (at! - 1) * CELL + 1} ${16 + (month! - 1) * CELL + CELL - 2}l${CELL - 3} -${CELL - 3}`}
                      stroke="var(--loss)"
                      strokeWidth={1.5}
                    >
                      <title>{`${date(gap)}: missing`}</title>
                    </path>
                  );
                })}
            </svg>
          );
        })}
      </div>
      <p className="mt-1 text-xs text-soft">
        {most > 1 ? `Darker: more snapshots, up to ${most} a session. ` : "One snapshot a session. "}
        {gaps.size > 0 && "A slanted line: the calendar has a session, the data has none. "}
        {seen.days.some((day) => day.version > 1) && "A light dot: corrected since it was first loaded."}
      </p>
    </section>
  );
}

/** Weekdays from one date to another. */
function between(start: string, end: string): string[] {
  const out: string[] = [];
  const last = new Date(`${end}T12:00:00Z`);
  for (const at = new Date(`${start}T12:00:00Z`); at <= last; at.setUTCDate(at.getUTCDate() + 1))
    if (at.getUTCDay() % 6 !== 0) out.push(at.toISOString().slice(0, 10));
  return out;
}

/** A range written out, or taken out. */
function Range({ seen, first, last }: { seen: Coverage; first: string; last: string }) {
  const [start, setStart] = useState(first);
  const [end, setEnd] = useState(last);
  const [kind, setKind] = useState("parquet");
  const remove = useRemove(seen.symbol);
  const inside = seen.days.filter((day) => day.date >= start && day.date <= end);
  const quotes = inside.reduce((sum, day) => sum + day.contracts * day.snapshots, 0);
  function submit(event: FormEvent) {
    event.preventDefault();
    window.location.href = `/api/data/${encodeURIComponent(seen.symbol)}/quotes.${kind}?start=${start}&end=${end}`;
  }
  return (
    <form className="card flex flex-col gap-2 px-3 py-2" aria-label="A range" onSubmit={submit}>
      <div className="flex flex-wrap items-end gap-2">
        <label className="text-xs text-soft">
          From
          <DateField className="mt-0.5 block" value={start} onChange={setStart} />
        </label>
        <label className="text-xs text-soft">
          to
          <DateField className="mt-0.5 block" value={end} onChange={setEnd} />
        </label>
        <span className="pb-1.5 text-soft">{plural(inside.length, "session")}</span>
      </div>
      <div className="flex flex-wrap items-center gap-2">
        <select
          className="field"
          aria-label="File format"
          value={kind}
          onChange={(e) => setKind(e.target.value)}
        >
          <option value="parquet">Parquet</option>
          <option value="csv">CSV</option>
        </select>
        <button type="submit" className="button" disabled={inside.length === 0 || quotes > seen.most_quotes}>
          Write to a file
        </button>
        <button
          type="button"
          className="button ml-auto"
          disabled={inside.length === 0 || seen.traded || !seen.may_change || remove.isPending}
          title={
            !seen.may_change
              ? "It is not yours to change; a copy of it is."
              : seen.traded
                ? "It is traded at the practice exchange; its history stays."
                : undefined
          }
          onClick={() =>
            remove.mutate(
              { start, end },
              {
                onSuccess: (made) => tell(`${plural(made.sessions, "session")} taken out. It can be undone.`),
              },
            )
          }
        >
          Take out
        </button>
      </div>
      {quotes > seen.most_quotes && (
        <p className="text-xs text-soft">
          {millions(quotes)} quotes; at most {millions(seen.most_quotes)} go into one file. Take a shorter
          range, several times.
        </p>
      )}
      <p className="text-xs text-soft">
        One row a quote, with the volatility that was computed. What is taken out stays stored: runs keep what
        they used, and it can be brought back.
      </p>
      {remove.error instanceof Refusal && (
        <p role="alert" className="text-loss">
          {remove.error.message}
        </p>
      )}
    </form>
  );
}
