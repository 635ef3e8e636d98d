import { ToggleGroup } from "radix-ui";
import type { Action, Scene } from "../../api/replay";
import { Outlook } from "../../ui/Outlook";

const ACTS: [string, string, string][] = [
  ["advise", "Advise", "They say what they would do; you act."],
  ["leave", "Leave", "Their exits close the position, from the session's start on."],
  ["live", "Live", "They enter and leave by themselves, as in a backtest from the session's start."],
];

interface Props {
  scene: Scene;
  act: (action: Action) => Promise<Scene | null>;
}

/** What each exit and adjustment of the strategy says of the position now, and what the rules may do by themselves. */
export function RulesNow({ scene, act }: Props) {
  if (!scene.strategy) return null;
  const trades = scene.outlooks;
  const acting = trades.flatMap((trade) => trade.exits).find((rule) => rule.truth === "true");
  const adjusting = trades
    .flatMap((trade) => trade.adjustments)
    .find((rule) => rule.asked && rule.truth === "true" && rule.does);
  return (
    <section className="card px-3 py-2" aria-label="Exits now">
      <h2 className="mb-1 font-sans font-semibold">What the rules say now</h2>
      <ToggleGroup.Root
        type="single"
        aria-label="What the rules do"
        className="mb-1.5 flex gap-1"
        value={scene.acts}
        onValueChange={(acts) => acts && act({ kind: "acts", acts })}
      >
        {ACTS.map(([value, label, says]) => (
          <ToggleGroup.Item key={value} value={value} title={says} className="pill">
            {label}
          </ToggleGroup.Item>
        ))}
      </ToggleGroup.Root>
      {trades.length === 0 && (
        <p className="text-soft">Without a position no exit and no adjustment is looked at.</p>
      )}
      {trades.length > 0 && (
        <p className="mb-1 font-serif text-lead">
          {acting
            ? `${acting.number ? `Sentence ${acting.number}` : "A stop"} ${scene.acts === "advise" ? "would leave" : "leaves"} now: ${acting.text}.`
            : adjusting
              ? `Sentence ${adjusting.number} ${scene.acts === "live" ? "adjusts" : "would adjust"} now: ${adjusting.text}.`
              : "They would hold."}
        </p>
      )}
      {trades.map((trade) => (
        <div key={trade.number}>
          {trades.length > 1 && (
            <h3 className="mt-1 text-soft">
              Trade {trade.number}: {trade.legs}
            </h3>
          )}
          <Outlook trade={trade} />
        </div>
      ))}
    </section>
  );
}
