import { useState } from "react";
import { useHalt } from "../api/desk";
import { Window } from "../ui/Dialog";
import { plural } from "../ui/format";
import { tell, tellError } from "../ui/toast";

/** One switch that stops it all. */
export function Halt({ open, onOpenChange }: { open: boolean; onOpenChange: (open: boolean) => void }) {
  const [flatten, setFlatten] = useState(false);
  const halt = useHalt();
  return (
    <Window
      open={open}
      onOpenChange={onOpenChange}
      title="Halt all accounts"
      about="Every working order is cancelled, every deployment disarmed. Nothing can be opened or armed until the next session; closing stays possible."
      width="max-w-md"
    >
      <form
        onSubmit={(event) => {
          event.preventDefault();
          halt.mutate(
            { flatten },
            {
              onSuccess: (done) => {
                onOpenChange(false);
                tell(
                  `Halted. ${plural(done.orders, "order")} cancelled or asked to be, ${plural(done.deployments, "deployment")} disarmed${flatten ? `, ${plural(done.closing, "closing order")} sent` : ""}.`,
                );
              },
              onError: tellError,
            },
          );
        }}
      >
        <label className="mb-3 flex items-center gap-2">
          <input type="checkbox" checked={flatten} onChange={(event) => setFlatten(event.target.checked)} />
          Close all positions at the market, too
        </label>
        <button type="submit" className="button halt" autoFocus disabled={halt.isPending}>
          Halt now
        </button>
      </form>
    </Window>
  );
}
