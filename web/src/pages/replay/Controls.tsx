import { useState } from "react";
import type { Scene } from "../../api/replay";
import { DateField } from "../../ui/DateField";
import type { Play } from "./usePlay";

interface Props {
  scene: Scene;
  play: Play;
  move: (to: string) => () => void;
  jump: (to: string) => void;
}

function Key({ children }: { children: string }) {
  return <kbd className="rounded border px-1 text-fine">{children}</kbd>;
}

export function Controls({ scene, play, move, jump }: Props) {
  const [typed, setTyped] = useState<string | null>(null);
  return (
    <div className="flex items-center gap-2 px-4.5 py-2">
      <button type="button" className="button" onClick={move("session-back")} disabled={scene.is_first}>
        <Key>⇧,</Key> session
      </button>
      <button type="button" className="button" onClick={move("step-back")} disabled={scene.is_first}>
        <Key>,</Key> step
      </button>
      <button
        type="button"
        className="button border-replay! bg-replay! text-white!"
        onClick={play.toggle}
        disabled={scene.is_last}
      >
        {play.playing ? "Pause" : "Play"} <Key>space</Key>
      </button>
      <button type="button" className="button" onClick={move("step")} disabled={scene.is_last}>
        step <Key>.</Key>
      </button>
      <button type="button" className="button" onClick={move("session")} disabled={scene.is_last}>
        session <Key>⇧.</Key>
      </button>
      <select
        className="field"
        aria-label="Speed"
        value={play.speed}
        onChange={(event) => play.setSpeed(Number(event.target.value))}
      >
        {[1, 2, 5, 10].map((speed) => (
          <option key={speed} value={speed}>
            {speed} {speed === 1 ? "snapshot" : "snapshots"} a second
          </option>
        ))}
      </select>
      <button type="button" className="link ml-2" onClick={move("previous-mark")}>
        ‹ mark
      </button>
      <button type="button" className="link" onClick={move("next-mark")}>
        next mark ›
      </button>
      <form
        className="ml-auto flex items-center gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          if (typed) jump(typed);
          setTyped(null);
        }}
      >
        <label className="flex items-center gap-1.5 text-soft">
          go to
          <DateField time value={typed ?? scene.local} onChange={setTyped} />
        </label>
        <button type="submit" className="button" disabled={!typed}>
          Go
        </button>
      </form>
    </div>
  );
}
