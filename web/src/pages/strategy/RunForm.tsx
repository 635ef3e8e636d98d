import { type FormEvent, useState } from "react";
import { Refusal, type Schemas } from "../../api/client";
import { useAskRun, useTerms } from "../../api/queries";

/** Period and cash of the next run. Problems stand under the field they are about. */
export function RunForm({
  strategy,
  onAsked,
}: {
  strategy: Schemas["StrategyOut"];
  onAsked: (number: number) => void;
}) {
  const terms = useTerms(strategy.underlying);
  const run = useAskRun(strategy.id);
  const [typed, setTyped] = useState<{ start?: string; end?: string; cash?: string }>({});
  const start = typed.start ?? terms.first;
  const end = typed.end ?? terms.last;
  const cash = typed.cash ?? "50000";
  const problems = run.error instanceof Refusal ? run.error.problems : [];
  const problem = (name: string) => problems.find((item) => item.path.endsWith(name))?.message;
  const unplaced = run.error && !["start", "end", "cash"].some(problem) ? run.error.message : null;

  function submit(event: FormEvent) {
    event.preventDefault();
    run.mutate(
      { start, end, cash: cash.replace(",", ".").replace(/\s/g, ""), method: "blocks" },
      { onSuccess: (made) => onAsked((made as Schemas["RunRow"]).number) },
    );
  }

  const field = (name: "start" | "end" | "cash", label: string, value: string, type: string) => (
    <label className="flex items-center gap-1.5">
      <span className="text-soft">{label}</span>
      <input
        className={`field ${name === "cash" ? "number w-24" : ""}`}
        type={type}
        required
        value={value}
        aria-invalid={!!problem(name)}
        onChange={(event) => setTyped({ ...typed, [name]: event.target.value })}
      />
    </label>
  );
  return (
    <form onSubmit={submit} className="flex flex-wrap items-center gap-3" aria-label="Next run" noValidate>
      <h2 className="font-sans text-head font-semibold">Backtest</h2>
      {field("start", "from", start, "date")}
      {field("end", "to", end, "date")}
      {field("cash", `with ${terms.currency}`, cash, "text")}
      <button type="submit" className="button primary ml-auto" disabled={run.isPending || !start}>
        Run backtest
      </button>
      {run.error && (
        <p role="alert" className="w-full text-loss">
          {["start", "end", "cash"].map(problem).filter(Boolean).join(" ") || unplaced}
        </p>
      )}
    </form>
  );
}
