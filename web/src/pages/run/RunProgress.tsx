import { useEffect, useState } from "react";
import type { Schemas } from "../../api/client";
import { useRunAction } from "../../api/queries";
import { clock } from "../../ui/format";
import { Progress } from "../../ui/parts";
import { tellError } from "../../ui/toast";

/** What a run is doing, how long it has been at it and how long it may take, with Cancel. */
export function RunProgress({ run }: { run: Schemas["RunRow"] }) {
  const action = useRunAction();
  const [now, setNow] = useState(Date.now());
  const active = run.status === "queued" || run.status === "running";
  useEffect(() => {
    if (!active) return;
    const tick = setInterval(() => setNow(Date.now()), 250);
    return () => clearInterval(tick);
  }, [active]);
  if (!active) return null;
  const since = Date.parse(run.started_at ?? run.queued_at);
  const gone = Math.max(0, (now - since) / 1000);
  const left =
    run.progress > 0.02 ? `about ${clock((gone / run.progress) * (1 - run.progress))} left` : "time unknown";
  return (
    <div className="mt-1" aria-live="polite">
      <Progress share={run.progress} label={`Run ${run.number}`} />
      <p className="mt-1 text-xs text-soft">
        {run.doing} · {clock(gone)} gone, {left} ·{" "}
        <button
          type="button"
          className="link"
          disabled={run.cancel_requested}
          onClick={() => action.mutate({ id: run.id, action: "cancel" }, { onError: tellError })}
        >
          Cancel
        </button>
      </p>
    </div>
  );
}
