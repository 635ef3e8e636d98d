import { CalendarDays } from "lucide-react";
import { useRef, useState } from "react";
import { date } from "./format";
import { DATE_HINT, INSTANT_HINT, readDate, readInstant } from "./read";

interface Props {
  /** "2026-11-18", or with `time` "2026-11-18T15:45". */
  value: string;
  onChange: (value: string) => void;
  time?: boolean;
  label?: string;
  className?: string;
  bad?: boolean;
}

const shown = (value: string, time: boolean) =>
  value ? date(value) + (time && value.length > 10 ? ` ${value.slice(11, 16)}` : "") : "";

/** A day (and a time of day), typed and shown with the name of its month; arrows go a day on and back. */
export function DateField({ value, onChange, time = false, label, className = "", bad = false }: Props) {
  const [typed, setTyped] = useState<string | null>(null);
  const picker = useRef<HTMLInputElement>(null);
  const read = time ? readInstant : readDate;
  const wrong = typed !== null && read(typed) === null;

  function take(text: string) {
    setTyped(text);
    const found = read(text);
    if (found) onChange(found);
  }

  function step(event: React.KeyboardEvent, days: number) {
    const here = typed === null ? value : read(typed);
    if (!here) return;
    event.preventDefault();
    const moved = new Date(`${here.slice(0, 10)}T12:00:00Z`);
    moved.setUTCDate(moved.getUTCDate() + days);
    setTyped(null);
    onChange(moved.toISOString().slice(0, 10) + here.slice(10));
  }

  return (
    <span className="relative inline-flex items-center">
      <input
        className={`field ${time ? "w-44" : "w-32"} pr-7! ${className}`}
        aria-label={label}
        aria-invalid={wrong || bad}
        title={wrong ? (time ? INSTANT_HINT : DATE_HINT) : undefined}
        value={typed ?? shown(value, time)}
        onChange={(event) => take(event.target.value)}
        onBlur={() => !wrong && setTyped(null)}
        onKeyDown={(event) => {
          if (event.key === "ArrowUp") step(event, 1);
          if (event.key === "ArrowDown") step(event, -1);
          if (event.key === "Escape" && typed !== null) {
            event.stopPropagation();
            setTyped(null);
          }
        }}
      />
      <button
        type="button"
        tabIndex={-1}
        className="absolute right-1.5 text-soft hover:text-ink"
        aria-label="Open the calendar"
        onClick={() => picker.current?.showPicker()}
      >
        <CalendarDays size={14} />
      </button>
      <input
        ref={picker}
        type={time ? "datetime-local" : "date"}
        tabIndex={-1}
        aria-hidden="true"
        className="pointer-events-none absolute right-0 bottom-0 h-0 w-0 opacity-0"
        value={value}
        onChange={(event) => event.target.value && take(event.target.value)}
      />
    </span>
  );
}
