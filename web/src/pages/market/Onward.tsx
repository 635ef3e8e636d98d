import { useNavigate } from "react-router";
import { type Surface, useStrategyFromLegs } from "../../api/market";
import { useStartReplayWith } from "../../api/replay";
import { tell, tellError } from "../../ui/toast";
import { type Leg, write } from "./basket";

interface Props {
  symbol: string;
  at: string | null;
  here: Surface;
  legs: Leg[];
  capital: number | null;
}

/** Where a basket may go: onto a ticket, into rules, into a replay from this instant. */
export function Onward({ symbol, at, here, legs, capital }: Props) {
  const go = useNavigate();
  const writing = useStrategyFromLegs();
  const replay = useStartReplayWith();
  const options = legs.filter((leg) => leg.contract !== null);
  const whole = options.length > 0 && options.every((leg) => Number.isInteger(leg.contracts));
  const alone = options.length === legs.length;
  const why = !whole
    ? "Whole contracts of options are needed."
    : alone
      ? ""
      : "Options only: take the underlying off the basket.";
  const body = {
    symbol,
    ...(at ? { at } : {}),
    legs: options.map((leg) => ({ contract: leg.contract!, contracts: leg.contracts })),
  };
  const busy = writing.isPending || replay.isPending;

  function rules(then: (id: number) => void) {
    writing.mutate(body, {
      onSuccess: (made) => {
        tell(made.notes.length > 0 ? made.notes.join(" ") : `${made.name} picks just these legs here.`);
        then(made.id);
      },
      onError: tellError,
    });
  }
  function live() {
    rules((strategy) =>
      replay.mutate(
        {
          strategy,
          at: here.local,
          cash: Math.max(50_000, Math.ceil((capital ?? 0) / 5_000) * 10_000),
          legs: body.legs,
        },
        { onSuccess: (id) => go(`/replays/${id}`), onError: tellError },
      ),
    );
  }
  return (
    <div className="mt-1.5 flex gap-2 border-t pt-2" role="group" aria-label="Go on with the basket">
      <button
        type="button"
        className="button"
        disabled={why !== "" || busy}
        title={why || "A strategy whose rules pick these legs; every value can be changed"}
        onClick={() => rules((id) => go(`/strategies/${id}/rules`))}
      >
        Write as rules
      </button>
      {!here.is_live && (
        <button
          type="button"
          className="button"
          disabled={why !== "" || busy}
          title={why || "Deal in these legs at this instant in a replay session, and live through what came"}
          onClick={live}
        >
          Replay from here
        </button>
      )}
      {here.has_live && (
        <button
          type="button"
          className="button"
          disabled={why !== "" || busy}
          title={why || "At today's prices: onto a ticket at the desk; nothing is sent yet"}
          onClick={() => go(`/desk?legs=${encodeURIComponent(write(options))}`)}
        >
          Put on a ticket
        </button>
      )}
    </div>
  );
}
