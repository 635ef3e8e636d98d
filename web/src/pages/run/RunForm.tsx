import { type FormEvent, useState } from "react";
import { Refusal, type Schemas } from "../../api/client";
import { useAskRun, useTerms } from "../../api/queries";
import { DateField } from "../../ui/DateField";
import { plainNumber, separatorProblem } from "../../ui/read";
import { SweepForm } from "../sweep/SweepForm";
import { HoldBack } from "./HeldBack";

interface Props {
  strategy: Schemas["StrategyOut"];
  onAsked: (number: number) => void;
  onSwept: (number: number) => void;
}

/** The day before: what is held back is not in it. */
export function dayBefore(iso: string): string {
  const at = new Date(`${iso}T12:00:00Z`);
  at.setUTCDate(at.getUTCDate() - 1);
  return at.toISOString().slice(0, 10);
}

function ordinal(count: number): string {
  const end = count % 100 > 10 && count % 100 < 14 ? "th" : (["th", "st", "nd", "rd"][count % 10] ?? "th");
  return `${count}${end}`;
}

/** Period and cash of the next run or sweep. Problems stand under the field they are about. */
export function RunForm({ strategy, onAsked, onSwept }: Props) {
  const [sweeping, setSweeping] = useState(false);
  const [looks, setLooks] = useState(false);
  const terms = useTerms(strategy.underlying);
  const run = useAskRun(strategy.id);
  const [typed, setTyped] = useState<{ start?: string; end?: string; cash?: string }>({});
  const start = typed.start ?? terms.first;
  const held = strategy.held_from;
  const end = typed.end ?? (held ? dayBefore(held) : terms.last);
  const beyond = held !== null && end >= held;
  const cash = typed.cash ?? "50000";
  const twoWays = separatorProblem(cash);
  const problems = run.error instanceof Refusal ? run.error.problems : [];
  const problem = (name: string) => problems.find((item) => item.path.endsWith(name))?.message;
  const unplaced = run.error && !["start", "end", "cash"].some(problem) ? run.error.message : null;

  function submit(event: FormEvent) {
    event.preventDefault();
    if (twoWays) return;
    run.mutate(
      { start, end, cash: plainNumber(cash), method: "blocks", look: beyond && looks },
      { onSuccess: (made) => onAsked((made as Schemas["RunRow"]).number) },
    );
  }

  const day = (name: "start" | "end", label: string, value: string) => (
    <label className="flex items-center gap-1.5">
      <span className="text-soft">{label}</span>
      <DateField value={value} bad={!!problem(name)} onChange={(to) => setTyped({ ...typed, [name]: to })} />
    </label>
  );
  return (
    <>
      <form onSubmit={submit} className="flex flex-wrap items-center gap-3" aria-label="Next run" noValidate>
        <h2 className="sr-only">Backtest</h2>
        {day("start", "from", start)}
        {day("end", "to", end)}
        <label className="flex items-center gap-1.5">
          <span className="text-soft">with {terms.currency}</span>
          <input
            className="field number w-20"
            required
            value={cash}
            aria-invalid={!!problem("cash") || twoWays !== null}
            onChange={(event) => setTyped({ ...typed, cash: event.target.value })}
          />
        </label>
        {terms.last && <HoldBack strategy={strategy} last={terms.last} />}
        {beyond && (
          <label className="flex items-center gap-1.5">
            <input type="checkbox" checked={looks} onChange={(event) => setLooks(event.target.checked)} />
            look at them, for the {ordinal(strategy.looks + 1)} time
          </label>
        )}
        <button
          type="button"
          className="button ml-auto"
          aria-expanded={sweeping}
          title="Run many variants of the rules at once"
          onClick={() => setSweeping(!sweeping)}
        >
          Sweep…
        </button>
        <button type="submit" className="button primary" disabled={run.isPending || !start}>
          Run backtest
        </button>
        {twoWays && (
          <p role="alert" className="w-full text-loss">
            {twoWays}
          </p>
        )}
        {run.error && !twoWays && (
          <p role="alert" className="w-full text-loss">
            {["start", "end", "cash"].map(problem).filter(Boolean).join(" ") || unplaced}
          </p>
        )}
      </form>
      {sweeping && (
        <SweepForm
          strategy={strategy}
          period={{ start, end, cash: plainNumber(cash) }}
          onAsked={(number) => {
            setSweeping(false);
            onSwept(number);
          }}
          onClose={() => setSweeping(false)}
        />
      )}
    </>
  );
}
