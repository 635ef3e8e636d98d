import { ChevronLeft, ChevronRight, ChevronsLeft, ChevronsRight } from "lucide-react";
import type { Surface } from "../../api/market";
import { DateField } from "../../ui/DateField";

type Step = "step_back" | "step" | "session_back" | "session";

interface Props {
  here: Surface;
  step: (name: Step) => () => void;
  onInstant: (at: string | null) => void;
}

/** When one looks: a date and time to type, steps to either side, and now. */
export function InstantBar({ here, step, onInstant }: Props) {
  const button = (name: Step, says: string, Icon: typeof ChevronLeft) => (
    <button
      type="button"
      className="button small px-1!"
      aria-label={says}
      title={says}
      disabled={!here.neighbours[name]}
      onClick={step(name)}
    >
      <Icon size={14} />
    </button>
  );
  return (
    <div className="ml-auto flex items-center gap-1.5">
      <span className="text-soft">{here.is_live ? "now," : "as of"}</span>
      {here.is_live ? (
        <b className="font-semibold whitespace-nowrap">
          {here.shown} {here.zone}
        </b>
      ) : (
        <>
          {button("session_back", "A session back (Shift ,)", ChevronsLeft)}
          {button("step_back", "A snapshot back (,)", ChevronLeft)}
          <DateField time label="Date and time" className="h-7" value={here.local} onChange={onInstant} />
          <span className="text-xs text-soft">{here.zone}</span>
          {button("step", "A snapshot forward (.)", ChevronRight)}
          {button("session", "A session forward (Shift .)", ChevronsRight)}
        </>
      )}
      {here.has_live && (
        <button type="button" className="button small" onClick={() => onInstant(here.is_live ? null : "now")}>
          {here.is_live ? "Look at history" : "Go to now"}
        </button>
      )}
    </div>
  );
}
