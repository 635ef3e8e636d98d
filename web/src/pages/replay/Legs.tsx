import type { Action, Scene } from "../../api/replay";
import { number, signed, tone } from "../../ui/format";
import { Th } from "../../ui/Th";

interface Props {
  scene: Scene;
  act: (action: Action, said?: string) => Promise<Scene | null>;
}

/** Every leg held so far: what it was opened for, what it can be closed for, its P/L and Greeks. */
export function Legs({ scene, act }: Props) {
  if (scene.legs.length === 0) return null;
  const open = scene.legs.some((leg) => leg.contracts !== 0);
  return (
    <section className="card" aria-label="Legs">
      <table className="plain">
        <thead>
          <tr>
            <Th aria-label="Contracts" />
            <Th>Leg</Th>
            <Th className="number">Opened</Th>
            <Th className="number">Closable</Th>
            <Th className="number">P/L</Th>
            <Th className="number">IV</Th>
            <Th className="number">Delta</Th>
            <Th aria-label="Action" />
          </tr>
        </thead>
        <tbody>
          {scene.legs.map((leg) => (
            <tr key={leg.contract} className={leg.contracts ? "" : "text-soft"}>
              <td className={`font-semibold ${leg.contracts > 0 ? "text-sea" : "text-loss"}`}>
                {leg.contracts ? signed(leg.contracts) : ""}
              </td>
              <td className="whitespace-nowrap">{leg.label}</td>
              <td className="number">{number(leg.opened, 2)}</td>
              <td className="number">{number(leg.closable, 2)}</td>
              <td className={`number font-medium ${tone(leg.pnl)}`}>{signed(leg.pnl)}</td>
              <td className="number">{number(leg.iv, 1)}</td>
              <td className="number">{number(leg.delta, 2)}</td>
              <td className="number">
                {leg.contracts ? (
                  <button
                    type="button"
                    className="link text-xs"
                    aria-label={`Close ${leg.label}`}
                    onClick={() =>
                      act(
                        { kind: "trade", orders: [{ contract: leg.contract, contracts: -leg.contracts }] },
                        `Closed ${leg.label}.`,
                      )
                    }
                  >
                    close
                  </button>
                ) : leg.settled ? (
                  "settled"
                ) : (
                  "closed"
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="flex gap-4 border-t px-3 py-1.5">
        {open && (
          <button
            type="button"
            className="link"
            onClick={() => act({ kind: "close" }, "Closed the whole position.")}
          >
            Close all
          </button>
        )}
        {scene.undoes !== null && (
          <button type="button" className="link" onClick={() => act({ kind: "undo" })}>
            Undo the latest trade
          </button>
        )}
        {scene.aside > 0 && (
          <span className="text-xs text-soft">
            {number(scene.aside)} later fills are set aside, because you traded before them; Undo brings them
            back.
          </span>
        )}
      </div>
    </section>
  );
}
