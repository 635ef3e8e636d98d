import { useState } from "react";
import { Refusal } from "../../api/client";
import { type Deployment, useConfirm, useDeploymentAction } from "../../api/desk";
import { Window } from "../../ui/Dialog";
import { tell, tellError } from "../../ui/toast";

/** Arming asks for the password again where orders go to a broker. */
export function useArming() {
  const action = useDeploymentAction();
  const confirm = useConfirm();
  const [asked, setAsked] = useState<Deployment | null>(null);
  const [password, setPassword] = useState("");

  function arm(row: Deployment) {
    action.mutate(
      { id: row.id, action: "arm" },
      {
        onSuccess: () => {
          setAsked(null);
          setPassword("");
          tell(`${row.name} is armed in ${row.account_name}; it decides on the next snapshot.`);
        },
        onError: (error) =>
          error instanceof Refusal && error.status === 428 ? setAsked(row) : tellError(error),
      },
    );
  }
  const simple = (row: Deployment, kind: "disarm" | "end", said: string) =>
    action.mutate({ id: row.id, action: kind }, { onSuccess: () => tell(said), onError: tellError });

  const window = (
    <Window
      open={asked !== null}
      onOpenChange={(open) => !open && setAsked(null)}
      title="Arm at the broker"
      about="From here on the rules send orders to a broker by themselves. Give your password again."
      width="max-w-sm"
    >
      <form
        className="flex items-center gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          confirm.mutate(password, { onSuccess: () => asked && arm(asked), onError: tellError });
        }}
      >
        <input
          type="password"
          className="field flex-1"
          aria-label="Password"
          autoFocus
          autoComplete="current-password"
          value={password}
          onChange={(event) => setPassword(event.target.value)}
        />
        <button type="submit" className="button primary" disabled={confirm.isPending || action.isPending}>
          Arm
        </button>
      </form>
    </Window>
  );
  return {
    arm,
    disarm: (row: Deployment) =>
      simple(row, "disarm", `${row.name} is disarmed; its working orders are cancelled.`),
    end: (row: Deployment) =>
      simple(row, "end", `The deployment in ${row.account_name} has ended; its positions stay.`),
    window,
  };
}
