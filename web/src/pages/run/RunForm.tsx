import { type FormEvent, useState } from "react";
import { Refusal, type Schemas } from "../../api/client";
import { useAskRun, useTerms } from "../../api/queries";
import { DateField } from "../../ui/DateField";
import { plainNumber, separatorProblem } from "../../ui/read";
import { SweepForm } from "../sweep/SweepForm";

interface Props {
  strategy: Schemas["StrategyOut"];
  onAsked: (number: number) => void;
  onSwept: (number: number) => void;
}

/** Period and cash of the next run or sweep. Problems stand under the field they are about. */
export function RunForm({ strategy, onAsked, onSwept }: Props) {
  const [sweeping, setSweeping] = useState(false);
  const terms = useTerms(strategy.underlying);
  const run = useAskRun(strategy.id);
  const [typed, setTyped] = useState<{ start?: string; end?: string; cash?: string }>({});
  const start = typed.start ?? terms.first;
  const end = typed.end ?? terms.last;
  const cash = typed.cash ?? "50000";
  const twoWays = separatorProblem(cash);
  const problems = run.error instanceof Refusal ? run.error.problems : [];
  const problem = (name: string) => problems.find((item) => item.path.endsWith(name))?.message;
  const unplaced = run.error && !["start", "end", "cash"].some(problem) ? run.error.message : null;

  function submit(event: FormEvent) {
    event.preventDefault();
    if (twoWays) return;
    run.mutate(
      { start, end, cash: plainNumber(cash), method: "blocks" },
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
        <h2 className="font-sans text-head font-semibold">Backtest</h2>
        {day("start", "from", start)}
        {day("end", "to", end)}
        <label className="flex items-center gap-1.5">
          <span className="text-soft">with {terms.currency}</span>
          <input
            className="field number w-24"
            required
            value={cash}
            aria-invalid={!!problem("cash") || twoWays !== null}
            onChange={(event) => setTyped({ ...typed, cash: event.target.value })}
          />
        </label>
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
