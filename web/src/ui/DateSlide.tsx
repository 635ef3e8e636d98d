import { Slider } from "radix-ui";
import { useEffect, useState } from "react";

const HOUR = 3600;

interface Props {
  /** Epoch seconds. */
  from: number;
  to: number;
  value: number | null;
  /** Of the exchange. */
  zone: string;
  onChange: (at: number | null) => void;
}

function shown(at: number, zone: string): string {
  return new Date(at * 1000).toLocaleDateString("en-GB", {
    weekday: "short",
    day: "numeric",
    month: "short",
    timeZone: zone,
  });
}

/** A date pulled between an instant and the nearest expiration; answers when the hand rests. */
export function DateSlide({ from, to, value, zone, onChange }: Props) {
  const [at, setAt] = useState(value ?? from);
  useEffect(() => setAt(value ?? from), [value, from]);
  return (
    <div className="flex items-center gap-3 px-2 text-xs">
      <span className="text-soft">Date</span>
      <Slider.Root
        className="relative flex h-5 flex-1 touch-none items-center"
        min={from}
        max={to}
        step={HOUR}
        value={[Math.min(to, Math.max(from, at))]}
        onValueChange={([slid]) => setAt(slid!)}
        onValueCommit={([slid]) => onChange(slid === from ? null : slid!)}
      >
        <Slider.Track className="relative h-1 flex-1 rounded bg-line">
          <Slider.Range className="absolute h-full rounded bg-sea" />
        </Slider.Track>
        <Slider.Thumb
          aria-label="Date of the payoff"
          className="block size-3.5 rounded-full border-2 border-sea bg-surface"
        />
      </Slider.Root>
      <span className="w-20 text-right">{shown(at, zone)}</span>
    </div>
  );
}
