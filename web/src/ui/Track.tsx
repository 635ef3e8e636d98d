import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { number, plural } from "./format";

type Track = Schemas["TrackOut"];
export type Stage = "rules" | "backtest" | "replay" | "paper";

interface Stop {
  name: string;
  stage?: Stage;
  reached: boolean;
  shows: string;
}

function stops(track: Track, sentences: number): Stop[] {
  const backtest =
    track.trades === null
      ? "no run yet"
      : `${track.mar === null ? "no drawdown" : `MAR ${number(track.mar, 2)}`}, ${plural(track.trades, "trade")}`;
  return [
    { name: "Rules", stage: "rules", reached: true, shows: plural(sentences, "sentence") },
    { name: "Backtest", stage: "backtest", reached: track.trades !== null, shows: backtest },
    {
      name: "Replay",
      stage: "replay",
      reached: track.replays > 0,
      shows: track.replays ? plural(track.replays, "session") : "no session yet",
    },
    {
      name: "Paper",
      stage: "paper",
      reached: track.deployments > 0,
      shows:
        track.deployments === 0
          ? "not promoted yet"
          : `${track.armed ? "armed" : "disarmed"}, ${plural(track.paper_sessions, "session")}`,
    },
    { name: "Live", reached: false, shows: "not offered yet" },
  ];
}

/** The five stages of a strategy, and what each has to show for itself. */
export function TrackBar({
  id,
  track,
  sentences,
  stage,
}: {
  id: number;
  track: Track;
  sentences: number;
  stage?: Stage;
}) {
  const all = stops(track, sentences);
  return (
    <nav aria-label="Stages" className="grid w-162.5 grid-cols-5">
      {all.map((stop, i) => {
        const here = stop.stage !== undefined && stop.stage === stage;
        const inner = (
          <>
            <span className="relative flex h-5 items-center">
              {i < all.length - 1 && (
                <span
                  className={`absolute left-2 w-full border-t-2 ${all[i + 1]!.reached ? "border-sea" : "border-dotted border-hairline"}`}
                />
              )}
              <span
                className={`relative z-10 rounded-full border-2 ${here ? "-ml-0.5 size-4" : "size-3"} ${
                  stop.reached
                    ? "border-sea bg-sea"
                    : here
                      ? "border-sea bg-paper"
                      : "border-hairline bg-paper"
                }`}
              />
            </span>
            <span className={`block text-xs leading-4 font-semibold ${here ? "underline" : ""}`}>
              {stop.name}
            </span>
            <span className="block truncate pr-2 text-fine leading-4 text-soft">{stop.shows}</span>
          </>
        );
        return stop.stage ? (
          <Link
            key={stop.name}
            to={`/strategies/${id}/${stop.stage}`}
            aria-current={here ? "page" : undefined}
            className="min-w-0"
          >
            {inner}
          </Link>
        ) : (
          <span key={stop.name} className="min-w-0 text-soft">
            {inner}
          </span>
        );
      })}
    </nav>
  );
}

/** The track on the shelf: dots only, the furthest stage in bold. */
export function TrackDots({ track, sentences }: { track: Track; sentences: number }) {
  const all = stops(track, sentences);
  const furthest = all.filter((stop) => stop.reached).at(-1)?.name;
  return (
    <div className="grid w-62.5 grid-cols-5">
      {all.map((stop, i) => (
        <div key={stop.name} className="flex flex-col items-center">
          <div className="relative flex h-4 w-full items-center justify-center">
            {i > 0 && (
              <span
                className={`absolute right-1/2 w-full border-t-[1.5px] ${stop.reached ? "border-sea" : "border-hairline"}`}
              />
            )}
            <span
              className={`relative z-10 size-2.5 rounded-full border-[1.5px] ${stop.reached ? "border-sea bg-sea" : "border-hairline bg-surface"}`}
            />
          </div>
          <span className={`text-fine ${stop.name === furthest ? "font-semibold" : "text-soft"}`}>
            {stop.name}
          </span>
        </div>
      ))}
    </div>
  );
}
