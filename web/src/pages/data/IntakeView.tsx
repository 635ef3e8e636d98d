import { useNavigate } from "react-router";
import { type Intake, useIntakeAction } from "../../api/data";
import { clock, number } from "../../ui/format";
import { Progress } from "../../ui/parts";
import { tell, tellError } from "../../ui/toast";
import { Reading } from "./Reading";
import { Report } from "./Report";

/** One file: how it is read, how far it is, what came of it. */
export function IntakeView({ intake }: { intake: Intake }) {
  const act = useIntakeAction();
  const go = useNavigate();
  const active = intake.status === "queued" || intake.status === "running";
  const over = intake.status === "done";
  return (
    <div className="flex flex-col gap-3">
      <header className="flex items-baseline gap-3">
        <h2 className="truncate font-serif text-title font-semibold">{intake.name}</h2>
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
