import { useEffect, useState } from "react";
import { type Desk, STANDING, useTakeOver } from "../../api/desk";
import { ErrorNote } from "../../ui/parts";
import { tell, tellError } from "../../ui/toast";

/** A page of a running market that was read longer ago than this says so. */
const OLD_SECONDS = 4;
/** One of a market that stands is asked for again this much more seldom. */
const RESTING_SECONDS = STANDING / 1000 + 2 * OLD_SECONDS;

export function ErrorBox({ error, again }: { error: unknown; again: () => void }) {
  return (
    <div className="m-6">
      <ErrorNote error={error} onRetry={again} />
    </div>
  );
}

/** Whole seconds since an instant, followed while it passes. */
export function useAge(since: number): number {
  const age = () => Math.max(0, Math.floor((Date.now() - since) / 1000));
  const [old, setOld] = useState(age);
  // biome-ignore lint/correctness/useExhaustiveDependencies: ``age`` changes with ``since`` only
  useEffect(() => {
    setOld(age());
    const timer = setInterval(() => setOld(age()), 1000);
    return () => clearInterval(timer);
  }, [since]);
  return old;
}

/** Says that what the page shows is old, and why. */
export function Outdated({ desk, old, error }: { desk: Desk; old: number; error: Error | null }) {
  if (old <= (desk.clock.running || error ? OLD_SECONDS : RESTING_SECONDS)) return null;
  return (
    <p role="alert" className="rounded-card border border-loss bg-surface px-3 py-1.5 text-loss">
      What you see is {old} s old. {error?.message ?? "The server does not answer."} Until it is back nothing
      is decided, opened or protected; then everything goes on by itself.
    </p>
  );
}

export function Warnings({ desk }: { desk: Desk }) {
  const { account } = desk;
  const over = useTakeOver();
  const said: React.ReactNode[] = [];
  if (!desk.desk.alive)
    said.push(
      "The desk process does not answer: orders wait, nothing is decided or protected until it runs again.",
    );
  if (account.halted)
    said.push(`Halted until the next session: ${account.halted_because}. Closing is possible.`);
  if (account.kind === "practice" && !desk.desk.line_up)
    said.push("The line to the practice broker is down; orders wait until it is up again.");
  else if (account.kind === "practice" && !desk.desk.reconciled)
    said.push("Positions are being compared with the broker; nothing is sent until they agree.");
  if (account.quarantine)
    said.push(
      <>
        In quarantine: {account.quarantine} Nothing is opened.{" "}
        <button
          type="button"
          className="link"
          onClick={() =>
            over.mutate(account.id, {
              onSuccess: () => tell("The ledger has taken over what the broker holds."),
              onError: tellError,
            })
          }
        >
          Take over what the broker holds
        </button>
      </>,
    );
  for (const deployment of desk.deployments)
    for (const late of deployment.late_exits) said.push(`${deployment.name}. ${late}`);
  return said.map((text, i) => (
    // biome-ignore lint/suspicious/noArrayIndexKey: a fixed short list
    <p key={i} role="alert" className="rounded-card border border-loss bg-surface px-3 py-1.5 text-loss">
      {text}
    </p>
  ));
}
