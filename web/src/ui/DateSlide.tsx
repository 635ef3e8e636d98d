import { Slide } from "./Slide";

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

/** An epoch second as "Wed 4 Nov" in the exchange's zone. */
export function dayAt(at: number, zone: string): string {
  return new Date(at * 1000).toLocaleDateString("en-GB", {
    weekday: "short",
    day: "numeric",
    month: "short",
    timeZone: zone,
  });
}

/** A date pulled between an instant and an expiration; answers when the hand rests. */
export function DateSlide({ from, to, value, zone, onChange }: Props) {
  return (
    <Slide
      label="Date"
      name="Date of the payoff"
      from={from}
      to={to}
      step={HOUR}
      value={value ?? from}
      shown={(at) => dayAt(at, zone)}
      onChange={(slid) => onChange(slid === from ? null : slid)}
    />
  );
}
