import { Slider } from "radix-ui";
import { useEffect, useState } from "react";

interface Props {
  label: string;
  /** Read out with the thumb. */
  name: string;
  from: number;
  to: number;
  step: number;
  value: number;
  shown: (value: number) => string;
  onChange: (value: number) => void;
}

/** A value pulled between two ends; answers when the hand rests. */
export function Slide({ label, name, from, to, step, value, shown, onChange }: Props) {
  const [at, setAt] = useState(value);
  useEffect(() => setAt(value), [value]);
  return (
    <div className="flex items-center gap-3 px-2 text-xs">
      <span className="min-w-8 whitespace-nowrap text-soft">{label}</span>
      <Slider.Root
        className="relative flex h-5 flex-1 touch-none items-center"
        min={from}
        max={to}
        step={step}
        value={[Math.min(to, Math.max(from, at))]}
        onValueChange={([slid]) => setAt(slid!)}
        onValueCommit={([slid]) => onChange(slid!)}
      >
        <Slider.Track className="relative h-1 flex-1 rounded bg-line">
          <Slider.Range className="absolute h-full rounded bg-sea" />
        </Slider.Track>
        <Slider.Thumb
          aria-label={name}
          aria-valuetext={shown(at)}
          className="block size-3.5 rounded-full border-2 border-sea bg-surface"
        />
      </Slider.Root>
      <span className="w-20 text-right whitespace-nowrap">{shown(at)}</span>
    </div>
  );
}
