import { ToggleGroup } from "radix-ui";
import type { Action, Scene } from "../../api/replay";

const ACTS: [string, string, string][] = [
  ["advise", "Advise", "They say what they would do; you act."],
  ["leave", "Leave", "Their exits close the position, from the session's start on."],
  ["live", "Live", "They enter and leave by themselves, as in a backtest from the session's start."],
];

interface Props {
  scene: Scene;
  act: (action: Action) => Promise<Scene | null>;
}

/** What each exit sentence of the strategy says of the position now, and what the rules may do by themselves. */
export function RulesNow({ scene, act }: Props) {
  if (!scene.strategy) return null;
  const acting = scene.rules.find((rule) => rule.truth === "true");
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
      {scene.rules.length === 0 && (
        <p className="text-soft">
          {scene.legs.some((leg) => leg.contracts !== 0)
            ? "The position's legs are not quoted together now."
            : "Without a position no exit is looked at."}
        </p>
      )}
      {scene.rules.length > 0 && (
        <p className="mb-1 font-serif text-lead">
          {acting
            ? `Sentence ${acting.number} ${scene.acts === "advise" ? "would leave" : "leaves"} now: ${acting.text}.`
            : "They would hold."}
        </p>
      )}
      <ol>
        {scene.rules.map((rule) => (
          <li
            key={rule.number}
            title={rule.sentence}
            className={`-mx-3 grid grid-cols-[--spacing(5.5)_1fr_--spacing(14.5)] gap-1 px-3 py-0.5 ${rule.truth === "true" ? "bg-mark" : ""}`}
          >
            <span className="text-soft">{rule.number}</span>
            <span>{rule.text}</span>
            <span className={`text-right ${rule.truth === "true" ? "font-semibold text-loss" : "text-soft"}`}>
              {rule.truth}
            </span>
          </li>
        ))}
      </ol>
    </section>
  );
}
