import { useState } from "react";
import { useRuns, useStrategies } from "../../api/queries";
import { ago, date, signedPercent } from "../../ui/format";

interface Props {
  chosen: number[];
  full: boolean;
  onChosen: (run: number) => void;
}

/** A finished run of any strategy, chosen in two steps. */
export function RunPicker({ chosen, full, onChosen }: Props) {
  const strategies = useStrategies().data ?? [];
  const [strategy, setStrategy] = useState<number | null>(null);
  const from = strategy ?? strategies.find((item) => item.track.runs > 0)?.id ?? null;
  const runs = useRuns(from ?? 0, from !== null).data ?? [];
  const offered = runs.filter((run) => run.status === "done" && !run.archived && !chosen.includes(run.id));
  if (full) return <p className="text-soft">Eight runs are the most.</p>;
  return (
    <>
      <select
        className="field"
        aria-label="Strategy to choose a run of"
        value={from ?? ""}
        onChange={(event) => setStrategy(Number(event.target.value))}
      >
        {strategies
          .filter((item) => item.track.runs > 0)
          .map((item) => (
            <option key={item.id} value={item.id}>
              {item.name}
            </option>
          ))}
      </select>
      <select
        className="field"
        aria-label="Run to add"
        value=""
        disabled={offered.length === 0}
        onChange={(event) => event.target.value && onChosen(Number(event.target.value))}
      >
        <option value="">{offered.length > 0 ? "add a run…" : "no other finished run"}</option>
        {offered.map((run) => (
          <option key={run.id} value={run.id}>
            Run {run.number}
            {run.name ? ` “${run.name}”` : ""}, revision {run.revision}, {ago(run.queued_at)}:{" "}
            {date(run.start)} – {date(run.end)}, {signedPercent(run.figures?.cagr)} a year
          </option>
        ))}
      </select>
    </>
  );
}
