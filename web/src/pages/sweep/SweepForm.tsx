import { type FormEvent, useState } from "react";
import { Refusal, type Schemas } from "../../api/client";
import { useAskSweep, useDials } from "../../api/sweeps";
import { ErrorNote, Skeleton } from "../../ui/parts";
import { separatorProblem } from "../../ui/read";

type Place = Schemas["PlaceOut"];

/** A dial as it is typed: which values of the sheet take what together. */
interface Typed {
  paths: string[];
  text: string;
}

interface Props {
  strategy: Schemas["StrategyOut"];
  period: { start: string; end: string; cash: string };
  onAsked: (number: number) => void;
  onClose: () => void;
}

const MOST = 4;

/** Which values of the sheet a sweep varies, and what each takes. */
export function SweepForm({ strategy, period, onAsked, onClose }: Props) {
  const places = useDials(strategy.id, strategy.revision);
  const sweep = useAskSweep(strategy.id);
  const [dials, setDials] = useState<Typed[]>([]);
  const [drawn, setDrawn] = useState("");
  if (places.error) return <ErrorNote error={places.error} onRetry={() => places.refetch()} />;
  if (!places.data) return <Skeleton className="h-24" />;
  const problems = sweep.error instanceof Refusal ? sweep.error.problems : [];
  const at = (dial: number) =>
    problems.find((item) => new RegExp(`(^|/)dials/${dial}(/|$)`).test(item.path))?.message;
  const unplaced = sweep.error && !dials.some((_, i) => at(i)) ? sweep.error.message : null;
  const change = (dial: number, to: Typed | null) =>
    setDials(dials.flatMap((item, i) => (i === dial ? (to ? [to] : []) : [item])));
  const taken = dials.flatMap((dial) => dial.paths);
  const count = drawn.trim() === "" ? null : Number(drawn);
  const badCount = count !== null && !(Number.isInteger(count) && count > 0);

  function submit(event: FormEvent) {
    event.preventDefault();
    if (dials.length === 0 || badCount || separatorProblem(period.cash)) return;
    sweep.mutate({ ...period, dials, drawn: count }, { onSuccess: (made) => onAsked(made.number) });
  }

  return (
    <form
      className="card flex flex-col gap-2 px-4 py-3"
      aria-label="Next sweep"
      onSubmit={submit}
      onKeyDown={(event) => event.key === "Escape" && onClose()}
      noValidate
    >
      <div className="flex items-baseline gap-3">
        <h3 className="font-sans text-head font-semibold">Sweep</h3>
        <span className="text-soft">
          Up to four values of the sheet take several values each; every combination is run over the period
          above.
        </span>
        <button type="button" className="link ml-auto" onClick={onClose}>
          Close
        </button>
      </div>
      {dials.map((dial, i) => (
        <DialRow
          // biome-ignore lint/suspicious/noArrayIndexKey: a row is its place
          key={i}
          dial={dial}
          places={places.data}
          taken={taken}
          problem={at(i)}
          change={(to) => change(i, to)}
        />
      ))}
      <div className="flex flex-wrap items-center gap-3">
        {dials.length < MOST && (
          <PlaceSelect
            label={dials.length === 0 ? "Value to vary" : "Another value to vary"}
            empty={dials.length === 0 ? "a value of the sheet…" : "and another value…"}
            places={places.data.filter((place) => !taken.includes(place.path))}
            onChosen={(place) => setDials([...dials, { paths: [place.path], text: place.suggested }])}
          />
        )}
        <label className="flex items-center gap-1.5">
          <span className="text-soft">all combinations, or drawn by chance</span>
          <input
            className="field number w-18"
            inputMode="numeric"
            placeholder="all"
            value={drawn}
            aria-invalid={badCount}
            onChange={(event) => setDrawn(event.target.value)}
          />
        </label>
        <button
          type="submit"
          className="button primary ml-auto"
          disabled={dials.length === 0 || sweep.isPending}
        >
          Start the sweep
        </button>
      </div>
      {(badCount || unplaced) && (
        <p role="alert" className="text-loss">
          {badCount ? "How many are drawn is a whole number; leave it empty for all." : unplaced}
        </p>
      )}
    </form>
  );
}

interface RowProps {
  dial: Typed;
  places: Place[];
  taken: string[];
  problem: string | undefined;
  change: (to: Typed | null) => void;
}

function DialRow({ dial, places, taken, problem, change }: RowProps) {
  const own = dial.paths.map((path) => places.find((place) => place.path === path));
  const first = own[0];
  const alike = places.filter(
    (place) =>
      !taken.includes(place.path) &&
      place.label === first?.label &&
      place.kind === first?.kind &&
      place.unit === first?.unit,
  );
  const others = places.filter((place) => taken.includes(place.path) && !dial.paths.includes(place.path));
  const called = first ? name(first, others) : "a value that is gone";
  return (
    <div className="flex flex-wrap items-center gap-2">
      <span className="min-w-52">
        {own.map((place, i) =>
          place ? (
            <span key={place.path}>
              {i > 0 && " and "}
              {title(place)}
            </span>
          ) : (
            <span key={dial.paths[i]} className="text-loss">
              a value that is gone
            </span>
          ),
        )}
      </span>
      <input
        className="field w-90 flex-1"
        aria-label={`Values of ${called}`}
        aria-invalid={problem !== undefined}
        placeholder="0.10, 0.15, 0.20 or 0.10 to 0.30 by 0.05"
        value={dial.text}
        onChange={(event) => change({ ...dial, text: event.target.value })}
      />
      {alike.length > 0 && (
        <PlaceSelect
          label={`Vary together with ${called}`}
          empty="together with…"
          places={alike}
          onChosen={(place) => change({ ...dial, paths: [...dial.paths, place.path] })}
        />
      )}
      <button
        type="button"
        className="link"
        aria-label={`Leave ${called} as it is`}
        onClick={() => change(null)}
      >
        ×
      </button>
      {problem && (
        <p role="alert" className="w-full text-loss">
          {problem}
        </p>
      )}
    </div>
  );
}

/** What a place is called beside others: by its sentence too where one of them is called the same. */
const name = (place: Place, others: Place[]) =>
  place.sentence !== null && others.some((other) => other.label === place.label)
    ? `${place.label} (${place.sentence})`
    : place.label;

const title = (place: Place) =>
  `${place.sentence === null ? "" : `${place.sentence} · `}${place.label}, now ${place.text}`;

interface SelectProps {
  label: string;
  empty: string;
  places: Place[];
  onChosen: (place: Place) => void;
}

function PlaceSelect({ label, empty, places, onChosen }: SelectProps) {
  return (
    <select
      className="field max-w-60"
      aria-label={label}
      value=""
      onChange={(event) => {
        const place = places.find((item) => item.path === event.target.value);
        if (place) onChosen(place);
      }}
    >
      <option value="">{empty}</option>
      {places.map((place) => (
        <option key={place.path} value={place.path}>
          {title(place)}
        </option>
      ))}
    </select>
  );
}
