import { Pause, Play } from "lucide-react";
import { useState } from "react";
import { type Clock, useClockAction, useFaults, usePlayFault } from "../../api/desk";
import { day } from "../../ui/format";
import { tell, tellError } from "../../ui/toast";

/** The practice exchange's clock; only who operates it may move it. */
export function ClockBar({ clock, old }: { clock: Clock; old: number }) {
  const act = useClockAction(clock.symbol);
  const [to, setTo] = useState("");
  const run = (action: Parameters<typeof act.mutate>[0]) => act.mutate(action, { onError: tellError });
  // of what was read a while ago, the quotes are older by that while
  const age = clock.age === null ? null : clock.age + (old > 1 ? old : 0);
  const stale = age !== null && age > 5;
  return (
    <section
      className="card flex flex-wrap items-center gap-x-3 gap-y-1 px-3 py-1.5"
      aria-label="Practice exchange"
    >
      <b className="font-semibold">Practice exchange</b>
      <span className="text-soft">
        {day(clock.session)}, {clock.open_local}–{clock.close_local}
      </span>
      <span className={stale || clock.quiet ? "text-loss" : "text-soft"} role="status">
        {clock.quiet
          ? "sends no quotes"
          : clock.sealed
            ? "the session is over"
            : clock.jumping
              ? "on the way"
              : age === null
                ? "stands"
                : `quotes ${age.toFixed(1)} s old`}
      </span>
      {clock.may_operate && (
        <span className="ml-auto flex items-center gap-2">
          {clock.sealed ? (
            <button type="button" className="button small" onClick={() => run({ kind: "next" })}>
              Next session
            </button>
          ) : (
            <>
              <button
                type="button"
                className="button small"
                aria-label={clock.running ? "Pause the clock" : "Start the clock"}
                onClick={() => run(clock.running ? { kind: "pause" } : { kind: "run" })}
              >
                {clock.running ? <Pause size={13} /> : <Play size={13} />}
              </button>
              <select
                className="field h-6"
                aria-label="Speed of the clock"
                value={clock.rate}
                onChange={(event) => run({ kind: "run", rate: Number(event.target.value) })}
              >
                {clock.rates.map((rate) => (
                  <option key={rate} value={rate}>
                    {rate}×
                  </option>
                ))}
              </select>
              <form
                className="flex items-center gap-1"
                onSubmit={(event) => {
                  event.preventDefault();
                  run({ kind: "jump", to });
                }}
              >
                <input
                  type="time"
                  className="field h-6"
                  aria-label="Time to jump to"
                  value={to}
                  onChange={(event) => setTo(event.target.value)}
                />
                <button type="submit" className="button small" disabled={!to}>
                  Jump
                </button>
              </form>
              <Faults clock={clock} onQuiet={(quiet) => run({ kind: "quiet", quiet })} />
            </>
          )}
        </span>
      )}
    </section>
  );
}

/** Faults that exchange and broker play on demand, to see what Strell does. */
function Faults({ clock, onQuiet }: { clock: Clock; onQuiet: (quiet: boolean) => void }) {
  const faults = useFaults(true);
  const play = usePlayFault();
  return (
    <select
      className="field h-6 max-w-28"
      aria-label="Play a fault"
      value=""
      onChange={(event) => {
        const kind = event.target.value;
        if (kind === "quotes") onQuiet(!clock.quiet);
        else
          play.mutate(kind, {
            onSuccess: () => tell(`The practice broker will play it once: ${kind}.`),
            onError: tellError,
          });
      }}
    >
      <option value="">Play a fault</option>
      <option value="quotes">{clock.quiet ? "send quotes again" : "send no quotes"}</option>
      {faults.data?.map((fault) => (
        <option key={fault.kind} value={fault.kind}>
          {fault.kind}
          {fault.left ? ` (${fault.left} due)` : ""}
        </option>
      ))}
    </select>
  );
}
