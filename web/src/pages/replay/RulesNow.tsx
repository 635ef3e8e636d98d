import type { Scene } from "../../api/replay";

/** What each exit sentence of the strategy says of the position now. */
export function RulesNow({ scene }: { scene: Scene }) {
  if (!scene.strategy) return null;
  const acting = scene.rules.find((rule) => rule.truth === "true");
  return (
    <section className="card px-3 py-2" aria-label="Exits now">
      <h2 className="mb-1 font-sans font-semibold">What the rules say now</h2>
      {scene.rules.length === 0 && (
        <p className="text-soft">
          {scene.legs.some((leg) => leg.contracts !== 0)
            ? "The position's legs are not quoted together now."
            : "Without a position no exit is looked at."}
        </p>
      )}
      {scene.rules.length > 0 && (
        <p className="mb-1 font-serif text-[14px]">
          {acting ? `Sentence ${acting.number} would leave now: ${acting.text}.` : "They would hold."}
        </p>
      )}
      <ol>
        {scene.rules.map((rule) => (
          <li
            key={rule.number}
            title={rule.sentence}
            className={`-mx-3 grid grid-cols-[22px_1fr_58px] gap-1 px-3 py-0.5 ${rule.truth === "true" ? "bg-mark" : ""}`}
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
