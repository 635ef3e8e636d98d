import type { Schemas } from "../../api/client";
import { date, number } from "../../ui/format";

type Decision = Schemas["DecisionOut"];

const WIDTH = 780;
const HEIGHT = 34;

interface Props {
  decisions: Decision[];
  /** Whose decisions they are. */
  of: string;
  /** What is to be said of them beside that. */
  aside?: string;
  at?: number;
  go: (local: string) => void;
}

/** Every decision time over the history, by entry where there are several: a tall bar where something is entered, a
 * short one where not. */
export function DecisionStrip({ decisions, of, aside = "", at, go }: Props) {
  const first = decisions[0]!.at;
  const span = decisions.at(-1)!.at - first || 1;
  const x = (instant: number) => ((instant - first) / span) * (WIDTH - 4) + 2;
  const counts = (some: Decision[]) => {
    const saidNo = new Map<string, number>();
    for (const decision of some)
      if (decision.kind !== "entry") {
        const who = decision.text.split(":")[0]!;
        saidNo.set(who, (saidNo.get(who) ?? 0) + 1);
      }
    return {
      entries: some.filter((decision) => decision.kind === "entry").length,
      most: [...saidNo].sort((a, b) => b[1] - a[1]).slice(0, 3),
    };
  };
  const names = [...new Set(decisions.map((decision) => decision.entry))].filter(Boolean);
  // what a limit said no to is nobody's: it stands with every entry
  const lanes =
    names.length > 1
      ? names.map((name) => ({ name, of: decisions.filter((d) => d.entry === name || !d.entry) }))
      : [{ name: "", of: decisions }];
  const pick = (event: React.MouseEvent<SVGSVGElement>, some: Decision[]) => {
    const box = event.currentTarget.getBoundingClientRect();
    const wanted = first + ((event.clientX - box.left) / box.width) * span;
    const nearest = some.reduce((a, b) => (Math.abs(b.at - wanted) < Math.abs(a.at - wanted) ? b : a));
    go(nearest.local);
  };
  return (
    <section className="card px-4 py-2" aria-label="Decision times">
      <div className="flex justify-between gap-4">
        <b className="font-semibold whitespace-nowrap">Every decision time of {of}</b>
        {lanes.length === 1 && <Counts {...counts(decisions)} aside={aside} />}
      </div>
      {lanes.map((lane) => (
        <div key={lane.name}>
          {lane.name && (
            <div className="mt-1 flex justify-between gap-4">
              <span className="text-soft">{lane.name}</span>
              <Counts {...counts(lane.of)} aside={aside} />
            </div>
          )}
          {/* biome-ignore lint/a11y/useKeyWithClickEvents: the buttons beside the date do the same by keyboard */}
          <svg
            viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
            preserveAspectRatio="none"
            className="mt-1 h-8.5 w-full cursor-pointer"
            role="img"
            aria-label={`${lane.name ? `${lane.name}: ` : ""}${counts(lane.of).entries} entries at ${lane.of.length} decision times`}
            onClick={(event) => pick(event, lane.of)}
          >
            <line x1={0} x2={WIDTH} y1={HEIGHT - 0.5} y2={HEIGHT - 0.5} stroke="var(--hairline)" />
            {lane.of.map((decision) => {
              const tall = decision.kind === "entry" ? HEIGHT - 2 : decision.kind === "skipped" ? 6 : 13;
              return (
                <line
                  key={`${decision.at}${decision.rule}`}
                  x1={x(decision.at)}
                  x2={x(decision.at)}
                  y1={HEIGHT - 1}
                  y2={HEIGHT - 1 - tall}
                  stroke={decision.kind === "entry" ? "var(--sea)" : "var(--hairline)"}
                  strokeWidth={1.7}
                />
              );
            })}
            {at !== undefined && at >= first && at <= first + span && (
              <line
                x1={x(at)}
                x2={x(at)}
                y1={0}
                y2={HEIGHT}
                stroke="var(--ink)"
                strokeWidth={1.5}
                strokeDasharray="2 2"
              />
            )}
          </svg>
        </div>
      ))}
      <div className="flex justify-between text-fine text-soft">
        <span>{date(decisions[0]!.local)}</span>
        <span>{date(decisions.at(-1)!.local)}</span>
      </div>
    </section>
  );
}

function Counts({ entries, most, aside }: { entries: number; most: [string, number][]; aside: string }) {
  return (
    <span className="truncate text-xs text-soft">
      <b className="font-semibold text-sea">{number(entries)} entries</b>
      {most.map(([who, count]) => ` · ${who} ${number(count)} times`)}
      {aside && ` · ${aside}`}
    </span>
  );
}
