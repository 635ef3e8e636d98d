import { useState } from "react";
import { Refusal } from "../../api/client";
import {
  type Intake,
  type Mapping,
  type Terms,
  useMappings,
  usePreview,
  useSaveMapping,
  useStart,
  useWords,
} from "../../api/data";
import { ErrorNote, Skeleton } from "../../ui/parts";
import { tell, tellError } from "../../ui/toast";
import { FirstRows } from "./FirstRows";

const LABELS: Record<string, string> = {
  at: "Date or time",
  time: "Time, if apart",
  symbol: "Option symbol",
  underlying: "Underlying",
  right: "Call or put",
  spot: "Underlying's price",
  open_interest: "Open interest",
  last: "Last price",
  bid_size: "Bid size",
  ask_size: "Ask size",
  iv: "IV as given",
  days: "Term",
  event: "What happens",
};
/** Shown to be chosen on demand: few files have them. */
const RARE = ["last", "bid_size", "ask_size", "iv", "delta", "gamma", "theta", "vega", "rho"];

const labelled = (role: string) => LABELS[role] ?? role.charAt(0).toUpperCase() + role.slice(1);

/** How the file is read: columns, forms, terms, and what comes of its first rows. */
export function Reading({ intake }: { intake: Intake }) {
  const words = useWords();
  const kept = useMappings();
  const [mapping, setMapping] = useState(intake.mapping as Mapping);
  const [terms, setTerms] = useState(intake.terms as Terms);
  const [adds, setAdds] = useState(intake.adds);
  const [rare, setRare] = useState(false);
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
  const kind = String(mapping.kind ?? "chains");
  const file = words.data?.files.find((row) => row.kind === kind);
  const chains = kind === "chains";
  const about = kind !== "rates" && kind !== "series";
  const calendar = seen?.is_calendar ?? false;
  return (
    <>
      <section className="card px-3 py-2" aria-label="Columns">
        <div className="mb-1.5 flex flex-wrap items-center gap-2">
          <h3 className="font-semibold">What is in it</h3>
          <select
            className="field"
            aria-label="What the file holds"
            value={kind}
            disabled={calendar}
            onChange={(event) => setMapping({ ...mapping, kind: event.target.value, columns: {} })}
          >
            {words.data?.files.map((row) => (
              <option key={row.kind} value={row.kind}>
                {row.title}
              </option>
            ))}
          </select>
          {!calendar && Object.keys(mapping.columns).length === 0 && (
            <button
              type="button"
              className="link"
              onClick={() =>
                seen && setMapping({ ...(seen.guess as Mapping), underlying: mapping.underlying })
              }
            >
              recognise the columns
            </button>
          )}
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
          {!calendar &&
            Object.keys(file?.roles ?? {})
              .filter((role) => rare || kind !== "chains" || !RARE.includes(role))
              .map((role) => (
                <label key={role} className="min-w-0 text-xs text-soft" title={file?.roles[role]}>
                  {role === "underlying" && !about
                    ? kind === "rates"
                      ? "Currency"
                      : "Name"
                    : labelled(role)}
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
          {chains && !rare && (
            <button type="button" className="link self-end pb-1 text-left" onClick={() => setRare(true)}>
              last, sizes, volatility, Greeks
              {RARE.some((role) => mapping.columns[role]) &&
                ` (${RARE.filter((role) => mapping.columns[role]).length} found)`}
            </button>
          )}
        </div>
        <h3 className="mt-2.5 mb-1 font-semibold">How values are written</h3>
        <div className="grid grid-cols-4 gap-x-3 gap-y-1.5">
          <Choice
            label="Dates"
            value={mapping.date_format}
            set={(to) => set("date_format", to)}
            options={[
              ...(mapping.date_format === "unsure"
                ? [["unsure", "day or month first?"] as [string, string]]
                : []),
              ...Object.entries(words.data?.date_formats ?? {}),
            ]}
            bad={wrong("date_format")}
          />
          <Text
            label="Time zone of the times"
            value={mapping.zone}
            set={(to) => set("zone", to)}
            bad={wrong("zone")}
          />
          {chains && (
            <Text
              label="Rows with only a date are of"
              value={mapping.day_time}
              set={(to) => set("day_time", to)}
              bad={wrong("day_time")}
              hint="the close"
            />
          )}
          <Choice
            label="Decimals"
            value={mapping.decimal}
            set={(to) => set("decimal", to)}
            options={[
              [".", "a point"],
              [",", "a comma"],
            ]}
          />
          {chains && (
            <>
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
            </>
          )}
          <Text
            label={
              about ? "Everything is on" : kind === "rates" ? "All in the currency" : "The series is called"
            }
            value={mapping.underlying}
            set={(to) => set("underlying", to.toUpperCase())}
            bad={wrong("underlying")}
            hint="the column says"
          />
        </div>
        {unknown && about && (
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
              <Choice
                label="Settled"
                value={terms.settles}
                set={(to) => term("settles", to)}
                options={[
                  ["close", "at the close"],
                  ["open", "at the open"],
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
      {seen && <FirstRows seen={seen} />}
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
        <label className={chains ? "flex items-center gap-1.5" : "hidden"}>
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

function Choice({
  label,
  value,
  set,
  options,
  bad,
}: ValueProps & { options: [string, string][]; bad?: string }) {
  return (
    <label className="min-w-0 text-xs text-soft">
      {label}
      <select
        className="field mt-0.5 block w-full text-ink"
        value={String(value)}
        aria-invalid={bad !== undefined}
        title={bad}
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
