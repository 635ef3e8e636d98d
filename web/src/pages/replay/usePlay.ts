import { useCallback, useEffect, useRef, useState } from "react";

export interface Play {
  playing: boolean;
  /** Snapshots a second. */
  speed: number;
  setSpeed: (speed: number) => void;
  toggle: () => void;
  stop: () => void;
}

/** Steps again and again, each after the one before has been answered. */
export function usePlay(move: (to: string) => Promise<unknown>): Play {
  const [playing, setPlaying] = useState(false);
  const [speed, setSpeed] = useState(2);
  const current = useRef(move);
  current.current = move;
  useEffect(() => {
    if (!playing) return;
    let ended = false;
    let wait: ReturnType<typeof setTimeout>;
    const next = async () => {
      const began = performance.now();
      const answered = await current.current("step");
      if (ended) return;
      if (answered === null) return setPlaying(false);
      wait = setTimeout(next, Math.max(0, 1000 / speed - (performance.now() - began)));
    };
    wait = setTimeout(next, 1000 / speed);
    return () => {
      ended = true;
      clearTimeout(wait);
    };
  }, [playing, speed]);
  const stop = useCallback(() => setPlaying(false), []);
  const toggle = useCallback(() => setPlaying((now) => !now), []);
  return { playing, speed, setSpeed, toggle, stop };
}
