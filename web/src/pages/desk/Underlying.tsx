import type { Schemas } from "../../api/client";
import { number, signed } from "../../ui/format";

interface Props {
  unit: Schemas["UnitOut"];
  onPick: (contract: string, contracts: number) => void;
}

/** The underlying itself, dealt like a leg: as many units at once as one option delivers. */
export function Underlying({ unit, onPick }: Props) {
  return (
    <section className="card flex items-center gap-2 px-3 py-1.5" aria-label="The underlying itself">
      <b className="font-semibold">{unit.label}</b>
      <span className="text-xs text-soft">by {unit.units}</span>
      {unit.held !== 0 && (
        <span className={`text-xs font-semibold ${unit.held > 0 ? "text-sea" : "text-loss"}`}>
          {signed(unit.held)}
        </span>
      )}
      <span className="ml-auto flex gap-1.5">
        <button
          type="button"
          className="button small number"
          aria-label={`Sell 1 of ${unit.label} at ${number(unit.bid, 2)}`}
          onClick={() => onPick(unit.contract, -1)}
        >
          sell {number(unit.bid, 2)}
        </button>
        <button
          type="button"
          className="button small number"
          aria-label={`Buy 1 of ${unit.label} at ${number(unit.ask, 2)}`}
          onClick={() => onPick(unit.contract, 1)}
        >
          buy {number(unit.ask, 2)}
        </button>
      </span>
    </section>
  );
}
