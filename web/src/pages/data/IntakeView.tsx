import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { Refusal } from "../../api/client";
import {
  type Intake,
  type Mapping,
  type Preview,
  type Terms,
  useIntakeAction,
  useMappings,
  usePreview,
  useSaveMapping,
  useStart,
  useWords,
} from "../../api/data";
import { clock, date, number, plural } from "../../ui/format";
import { ErrorNote, Figure, Progress, Skeleton } from "../../ui/parts";
import { tell, tellError } from "../../ui/toast";

/** One file: how it is read, how far it is, what came of it. */
export function IntakeView({ intake }: { intake: Intake }) {
  const act = useIntakeAction();
  const go = useNavigate();
  const active = intake.status === "queued" || intake.status === "running";
  const over = intake.status === "done";
  return (
    <div className="flex flex-col gap-3">
      <header className="flex items-baseline gap-3">
        <h2 className="truncate font-serif text-[20px] font-semibold">{intake.name}</h2>
        <span className="text-soft">{number(intake.size / 1e6, 1)} MB</span>
        {!active && (
          <span className="ml-auto flex gap-3">
            {intake.brought > 0 && intake.status !== "taken back" && (
              <button
                type="button"
                className="link"
                onClick={() =>
                  act.mutate(
                    { id: intake.id, action: "take-back" },
                    {
                      onSuccess: () => tell("Taken back: what was there before is current again."),
                      onError: tellError,
                    },
                  )
                }
              >
                Take back what it brought
              </button>
            )}
            <button
              type="button"
              className="link"
              onClick={() =>
                act.mutate(
                  { id: intake.id, action: "forget" },
                  { onSuccess: () => go("/data"), onError: tellError },
                )
              }
            >
              Off the list
            </button>
          </span>
        )}
      </header>
      {intake.message && (
        <p role="status" className={intake.status === "failed" ? "text-loss" : ""}>
          {intake.message}
        </p>
      )}
      {active && <Doing intake={intake} />}
      {(over || intake.symbols.length > 0) && <Report intake={intake} />}
      {!active && !over && <Reading intake={intake} />}
    </div>
  );
}

function Doing({ intake }: { intake: Intake }) {
  const act = useIntakeAction();
  return (
    <section className="card px-3 py-3" aria-label="Progress" aria-live="polite">
      <Progress share={intake.share} label={intake.name} />
      <p className="mt-1.5 text-soft">
        {intake.doing || "waiting for a worker"}
        {intake.elapsed !== null && ` · ${clock(intake.elapsed)} gone`}
        {intake.expected !== null &&
          intake.elapsed !== null &&
          `, about ${clock(Math.max(0, intake.expected - intake.elapsed))} left`}{" "}
        ·{" "}
        <button
          type="button"
          className="link"
          onClick={() => act.mutate({ id: intake.id, action: "cancel" }, { onError: tellError })}
        >
          Cancel
        </button>
      </p>
    </section>
  );
}

function Report({ intake }: { intake: Intake }) {
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
        <table className="plain card" aria-label="Why rows were set aside">
          <thead>
            <tr>
              <th>Set aside because</th>
              <th className="number">Rows</th>
            </tr>
          </thead>
          <tbody>
            {intake.rejected.map((row) => (
              <tr key={row.what}>
                <td className="whitespace-normal!">{row.what}</td>
                <td className="number">{number(row.count)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {intake.symbols.map((mine) => (
        <section key={mine.symbol} className="card px-3 py-2">
          <p className="font-serif text-[15px] leading-[22px]">
            <Link className="link font-semibold" to={`/data/${mine.symbol}`}>
              {mine.symbol}
            </Link>
            {mine.first && mine.last ? `, ${date(mine.first)} to ${date(mine.last)}: ` : ": "}
            {[
              mine.new && `${plural(mine.new, "session")} new`,
              mine.changed && `${mine.changed} changed`,
              mine.same && `${mine.same} as they were`,
              mine.empty && `${mine.empty} without a usable row`,
            ]
              .filter(Boolean)
              .join(", ")}
            ; {number(mine.quotes)} quotes.
          </p>
          {mine.runs.length > 0 && (
            <p className="mt-1 text-loss">
              Read what was there before:{" "}
              {mine.runs.map((run, i) => (
                <span key={run.run}>
                  {i > 0 && ", "}
                  <Link className="link" to={`/strategies/${run.strategy}/backtest?run=${run.run}`}>
                    run {run.number} of {run.name}
                  </Link>
                </span>
              ))}
              .
            </p>
          )}
          {mine.findings.length > 0 && (
            <table className="plain mt-1" aria-label={`Doubtful in ${mine.symbol}`}>
              <tbody>
                {mine.findings.map((row) => (
                  <tr key={row.what}>
                    <td className="whitespace-normal! text-soft">{row.what}</td>
                    <td className="number">{number(row.count)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </section>
      ))}
    </section>
  );
}

const SHOWN: [string, string][] = [
  ["at", "Date or time"],
  ["time", "Time, if apart"],
  ["symbol", "Option symbol"],
  ["underlying", "Underlying"],
  ["expiration", "Expiration"],
  ["strike", "Strike"],
  ["right", "Call or put"],
  ["bid", "Bid"],
  ["ask", "Ask"],
  ["spot", "Underlying's price"],
  ["volume", "Volume"],
  ["open_interest", "Open interest"],
];

/** How the file is read: columns, forms, terms, and what comes of its first rows. */
function Reading({ intake }: { intake: Intake }) {
  const words = useWords();
  const kept = useMappings();
  const [mapping, setMapping] = useState(intake.mapping as Mapping);
  const [terms, setTerms] = useState(intake.terms as Terms);
  const [adds, setAdds] = useState(intake.adds);
  const [name, setName] = useState("");
  const preview = usePreview(intake.id, mapping, terms);
  const start = useStart(intake.id);
  const save = useSaveMapping();
  const seen = preview.data;
  const refused = start.error instanceof Refusal ? start.error : null;
  const wrong = (place: string) =>
    seen?.problems.find((p) => p.path === place)?.message ??
    refused?.problems.find((p) => p.path === place)?.message ??
    (preview.error instanceof Refusal
      ? preview.error.problems.find((p) => p.path === place)?.message
      : undefined);
  const column = (role: string, to: string) => {
    const { [role]: _, ...rest } = mapping.columns;
    setMapping({ ...mapping, columns: to ? { ...rest, [role]: to } : rest });
  };
  const set = (key: string, to: unknown) => setMapping({ ...mapping, [key]: to });
  const term = (key: string, to: unknown) => setTerms({ ...terms, [key]: to });
  if (!seen && preview.isPending) return <Skeleton className="h-[60vh]" />;
  const unknown = seen?.symbols.some((row) => !row.known) ?? true;
  const names = seen?.names ?? [];
  return (
    <>
      <section className="card px-3 py-2" aria-label="Columns">
        <div className="mb-1.5 flex flex-wrap items-center gap-2">
          <h3 className="font-semibold">Which column is what</h3>
          {kept.data && kept.data.length > 0 && (
            <select
              className="field ml-auto"
              aria-label="Read it like"
              value=""
              onChange={(event) => {
                const found = kept.data.find((row) => row.name === event.target.value);
                if (found) setMapping(found.mapping as Mapping);
              }}
            >
              <option value="">Read it like …</option>
              {kept.data.map((row) => (
                <option key={row.name}>{row.name}</option>
              ))}
            </select>
          )}
        </div>
        <div className="grid grid-cols-4 gap-x-3 gap-y-1.5">
          {SHOWN.map(([role, label]) => (
            <label key={role} className="min-w-0 text-xs text-soft" title={words.data?.roles[role]}>
              {label}
              <select
                className="field mt-0.5 block w-full text-ink"
                value={mapping.columns[role] ?? ""}
                aria-invalid={wrong(role) !== undefined}
                onChange={(event) => column(role, event.target.value)}
              >
                <option value="">none</option>
                {names.map((at) => (
                  <option key={at}>{at}</option>
                ))}
              </select>
            </label>
          ))}
        </div>
        <h3 className="mt-2.5 mb-1 font-semibold">How values are written</h3>
        <div className="grid grid-cols-4 gap-x-3 gap-y-1.5">
          <Choice
            label="Dates"
            value={mapping.date_format}
            set={(to) => set("date_format", to)}
            options={Object.entries(words.data?.date_formats ?? {}).map(([key, example]) => [key, example])}
          />
          <Text
            label="Time zone of the times"
            value={mapping.zone}
            set={(to) => set("zone", to)}
            bad={wrong("zone")}
          />
          <Text
            label="Rows with only a date are of"
            value={mapping.day_time}
            set={(to) => set("day_time", to)}
            bad={wrong("day_time")}
            hint="the close"
          />
          <Choice
            label="Decimals"
            value={mapping.decimal}
            set={(to) => set("decimal", to)}
            options={[
              [".", "a point"],
              [",", "a comma"],
            ]}
          />
          <Choice
            label="Strikes"
            value={String(mapping.strike_scale)}
            set={(to) => set("strike_scale", Number(to))}
            options={[
              ["1", "in points"],
              ["1000", "in thousandths"],
            ]}
          />
          <Choice
            label="Prices"
            value={String(mapping.price_scale)}
            set={(to) => set("price_scale", Number(to))}
            options={[
              ["1", "in points"],
              ["100", "in cents"],
            ]}
          />
          <Text
            label="Everything is on"
            value={mapping.underlying}
            set={(to) => set("underlying", to.toUpperCase())}
            bad={wrong("underlying")}
            hint="the column says"
          />
        </div>
        {unknown && (
          <>
            <h3 className="mt-2.5 mb-1 font-semibold">
              Terms of underlyings that are new
              {seen && seen.symbols.length > 0 && (
                <span className="ml-2 font-normal text-soft">
                  {seen.symbols
                    .filter((row) => !row.known)
                    .map((row) => row.symbol)
                    .slice(0, 8)
                    .join(", ")}
                </span>
              )}
            </h3>
            <div className="grid grid-cols-4 gap-x-3 gap-y-1.5">
              <Choice
                label="Kind"
                value={terms.kind}
                set={(to) => term("kind", to)}
                options={(words.data?.kinds ?? []).map((kind) => [kind, kind])}
              />
              <Choice
                label="Exercise"
                value={terms.american ? "yes" : "no"}
                set={(to) => term("american", to === "yes")}
                options={[
                  ["yes", "any time (American)"],
                  ["no", "at expiration (European)"],
                ]}
              />
              <Text
                label="Multiplier"
                value={terms.multiplier}
                set={(to) => term("multiplier", to)}
                bad={wrong("multiplier")}
              />
              <Text
                label="Smallest price step"
                value={terms.quantum}
                set={(to) => term("quantum", to)}
                bad={wrong("quantum")}
              />
              <Text
                label="Currency"
                value={terms.currency}
                set={(to) => term("currency", to)}
                bad={wrong("currency")}
              />
              <Choice
                label="Trading calendar"
                value={terms.calendar}
                set={(to) => term("calendar", to)}
                options={(words.data?.calendars ?? []).map((at) => [at, at])}
              />
              <Text
                label="Interest rate a year"
                value={terms.rate}
                set={(to) => term("rate", to)}
                bad={wrong("rate")}
              />
            </div>
          </>
        )}
      </section>
      {seen && <First seen={seen} />}
      {preview.error && <ErrorNote error={preview.error} />}
      {refused && <ErrorNote error={refused} />}
      <div className="flex flex-wrap items-center gap-3">
        <button
          type="button"
          className="button primary"
          disabled={start.isPending || !seen || seen.problems.length > 0 || preview.isPlaceholderData}
          onClick={() => start.mutate({ mapping, terms, adds })}
        >
          Load it
        </button>
        <label className="flex items-center gap-1.5">
          <input type="checkbox" checked={adds} onChange={(event) => setAdds(event.target.checked)} />
          add to sessions that are there, instead of replacing them
        </label>
        <span className="ml-auto flex items-center gap-1.5">
          <input
            className="field w-40"
            aria-label="Name for this mapping"
            placeholder="name for this mapping"
            maxLength={60}
            value={name}
            onChange={(event) => setName(event.target.value)}
          />
          <button
            type="button"
            className="button small"
            disabled={!name.trim() || save.isPending}
            onClick={() =>
              save.mutate(
                { name, mapping },
                { onSuccess: () => tell(`Kept as ${name.trim()}.`), onError: tellError },
              )
            }
          >
            Keep
          </button>
        </span>
      </div>
    </>
  );
}

interface ValueProps {
  label: string;
  value: unknown;
  set: (to: string) => void;
}

function Choice({ label, value, set, options }: ValueProps & { options: [string, string][] }) {
  return (
    <label className="min-w-0 text-xs text-soft">
      {label}
      <select
        className="field mt-0.5 block w-full text-ink"
        value={String(value)}
        onChange={(event) => set(event.target.value)}
      >
        {options.map(([key, words]) => (
          <option key={key} value={key}>
            {words}
          </option>
        ))}
      </select>
    </label>
  );
}

function Text({ label, value, set, bad, hint }: ValueProps & { bad?: string; hint?: string }) {
  return (
    <label className="min-w-0 text-xs text-soft">
      {label}
      <input
        className="field mt-0.5 block w-full text-ink"
        value={String(value ?? "")}
        placeholder={hint}
        aria-invalid={bad !== undefined}
        title={bad}
        onChange={(event) => set(event.target.value)}
      />
    </label>
  );
}

/** The first rows as they would be read, and what is set aside of them. */
function First({ seen }: { seen: Preview }) {
  return (
    <section className="card" aria-label="First rows">
      {seen.problems.length > 0 ? (
        <ul className="px-3 py-2 text-loss" role="alert">
          {seen.problems.map((problem) => (
            <li key={problem.path + problem.message}>{problem.message}</li>
          ))}
        </ul>
      ) : (
        <p className="border-b px-3 py-1.5 text-soft">
          Of the first {number(seen.rows)} rows{" "}
          {seen.rejected.length === 0
            ? "all can be used."
            : `${number(seen.rejected.reduce((sum, row) => sum + row.count, 0))} are set aside: ${seen.rejected
                .map((row) => `${number(row.count)} × ${row.what}`)
                .join("; ")}.`}
        </p>
      )}
      {seen.quotes.length > 0 && (
        <table className="plain" aria-label="Rows as they are read">
          <thead>
            <tr>
              <th>At</th>
              <th>On</th>
              <th>Expiration</th>
              <th className="number">Strike</th>
              <th>Right</th>
              <th className="number">Bid</th>
              <th className="number">Ask</th>
              <th className="number">Underlying</th>
            </tr>
          </thead>
          <tbody>
            {seen.quotes.slice(0, 6).map((row, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: rows of a file in their order
              <tr key={i}>
                <td>{row.at}</td>
                <td>{row.symbol}</td>
                <td>{date(row.expiration)}</td>
                <td className="number">{row.strike}</td>
                <td>{row.right}</td>
                <td className="number">{number(row.bid, 2)}</td>
                <td className="number">{number(row.ask, 2)}</td>
                <td className="number">{number(row.spot, 2)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {seen.quotes.length === 0 && seen.cells.length > 0 && (
        <table className="plain" aria-label="Rows of the file">
          <thead>
            <tr>
              {seen.names.map((name) => (
                <th key={name}>{name}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {seen.cells.slice(0, 5).map((row, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: rows of a file in their order
              <tr key={i}>
                {row.map((cell, j) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: cells of a row in their order
                  <td key={j}>{cell}</td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}
