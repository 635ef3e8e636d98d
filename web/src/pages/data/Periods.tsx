import { type FormEvent, useState } from "react";
import { Refusal } from "../../api/client";
import { type Coverage, useChangeTerms, useChangeTermsBack, useWords } from "../../api/data";
import { DateField } from "../../ui/DateField";
import { date, number, percent } from "../../ui/format";
import { tell, tellError } from "../../ui/toast";

type Period = Coverage["periods"][number];

function words(period: Period): string {
  const steps = period.ticks.length > 0 ? `, price steps ${stepsText(period.ticks)}` : "";
  return `multiplier ${number(period.multiplier)}, ${period.american ? "American" : "European"}, settled at the ${period.settles}, interest ${percent(period.rate)} a year, ${period.currency}, calendar ${period.calendar}${steps}`;
}

/** Price steps as people type them: 0.05, from 3 0.10. */
function stepsText(ticks: Period["ticks"]): string {
  return ticks
    .map((tick) => (Number(tick.start) === 0 ? tick.step : `from ${tick.start} ${tick.step}`))
    .join(", ");
}

function readSteps(text: string): Period["ticks"] {
  return text
    .split(/[,;]+/)
    .map((part) => part.trim())
    .filter(Boolean)
    .map((part) => {
      const [start, step] = /^(?:from\s+)?(\S+)\s+(\S+)$/.exec(part)?.slice(1) ?? ["0", part];
      return { start: start!, step: step! };
    });
}

/** Terms by date, and changing them from a day on. */
export function Periods({ seen }: { seen: Coverage }) {
  const [open, setOpen] = useState(false);
  const back = useChangeTermsBack(seen.symbol);
  const later = seen.periods.filter((period) => period.start);
  if (seen.traded || !seen.may_change) return null;
  return (
    <section aria-label="Terms" className="text-soft">
      {later.length > 0 &&
        seen.periods.map((period) => (
          <p key={period.start ?? "first"}>
            {period.start ? `From ${date(period.start)}` : "At first"}: {words(period)}.{" "}
            {period.start && (
              <button
                type="button"
                className="link"
                onClick={() =>
                  back.mutate(period.start!, {
                    onSuccess: () => tell("The terms before hold on."),
                    onError: tellError,
                  })
                }
              >
                Take out
              </button>
            )}
          </p>
        ))}
      <button type="button" className="link" aria-expanded={open} onClick={() => setOpen(!open)}>
        Change terms from a day on
      </button>
      {open && <Change seen={seen} onDone={() => setOpen(false)} />}
    </section>
  );
}

function Change({ seen, onDone }: { seen: Coverage; onDone: () => void }) {
  const change = useChangeTerms(seen.symbol);
  const now = seen.periods.at(-1)!;
  const [start, setStart] = useState(seen.last ?? "");
  const [values, setValues] = useState(now);
  const [steps, setSteps] = useState(stepsText(now.ticks));
  const words = useWords();
  const problems = change.error instanceof Refusal ? change.error.message : change.error?.message;
  function submit(event: FormEvent) {
    event.preventDefault();
    const { multiplier, american, settles, rate, currency, calendar } = values;
    change.mutate(
      { start, multiplier, american, settles, rate, currency, calendar, ticks: readSteps(steps) },
      {
        onSuccess: () => {
          tell("Changed. Volatilities of the sessions it touches are computed anew in the background.");
          onDone();
        },
      },
    );
  }
  return (
    <form className="card mt-1.5 flex flex-wrap items-end gap-3 px-3 py-2 text-xs" onSubmit={submit}>
      <label>
        From
        <DateField className="mt-0.5 block text-ink" value={start} onChange={setStart} />
      </label>
      <label>
        Multiplier
        <input
          type="number"
          min={1}
          max={100000}
          required
          className="field mt-0.5 block w-24 text-ink"
          value={values.multiplier}
          onChange={(event) => setValues({ ...values, multiplier: Number(event.target.value) })}
        />
      </label>
      <label>
        Exercise
        <select
          className="field mt-0.5 block text-ink"
          value={values.american ? "yes" : "no"}
          onChange={(event) => setValues({ ...values, american: event.target.value === "yes" })}
        >
          <option value="yes">any time (American)</option>
          <option value="no">at expiration (European)</option>
        </select>
      </label>
      <label>
        Settled
        <select
          className="field mt-0.5 block text-ink"
          value={values.settles}
          onChange={(event) => setValues({ ...values, settles: event.target.value })}
        >
          <option value="close">at the close</option>
          <option value="open">at the open</option>
        </select>
      </label>
      <label>
        Interest, percent a year
        <input
          type="number"
          step="0.01"
          className="field mt-0.5 block w-24 text-ink"
          value={Number((values.rate * 100).toFixed(4))}
          onChange={(event) => setValues({ ...values, rate: Number(event.target.value) / 100 })}
        />
      </label>
      <label>
        Currency
        <input
          maxLength={3}
          required
          className="field mt-0.5 block w-16 text-ink"
          value={values.currency}
          onChange={(event) => setValues({ ...values, currency: event.target.value.toUpperCase() })}
        />
      </label>
      <label>
        Calendar
        <select
          className="field mt-0.5 block text-ink"
          value={values.calendar}
          onChange={(event) => setValues({ ...values, calendar: event.target.value })}
        >
          {(words.data?.calendars ?? [values.calendar]).map((name) => (
            <option key={name}>{name}</option>
          ))}
        </select>
      </label>
      <label title="The exchange's price steps, by price; empty: the step prices are kept in">
        Price steps, like 0.05, from 3 0.10
        <input
          className="field mt-0.5 block w-48 text-ink"
          value={steps}
          placeholder={seen.quantum}
          onChange={(event) => setSteps(event.target.value)}
        />
      </label>
      <button type="submit" className="button" disabled={change.isPending}>
        Change
      </button>
      {problems && (
        <p role="alert" className="w-full text-loss">
          {problems}
        </p>
      )}
    </form>
  );
}
