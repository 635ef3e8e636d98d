import { useMemo, useState } from "react";
import type { Schemas } from "../../api/client";
import { useWalk } from "../../api/sweeps";
import { OverlayChart } from "../../charts/OverlayChart";
import { date, number, percent, plural, tone } from "../../ui/format";
import { ErrorNote, Skeleton } from "../../ui/parts";
import { Th } from "../../ui/Th";

type Sweep = Schemas["SweepOut"];
type Walk = Schemas["WalkOut"];

interface Props {
  sweep: Sweep;
  choose: (place: number) => void;
}

const TRAINED = [42, 63, 126, 189, 252, 378, 504];
const JUDGED = [10, 21, 42, 63, 126];

/** About as many sessions as lie between two days. */
const weekdays = (from: string, to: string) =>
  ((new Date(to).getTime() - new Date(from).getTime()) / 86_400_000 / 7) * 5;
const within = (of: number[], most: number) => of.findLast((count) => count <= most) ?? of[0]!;
const ratio = (value: number | null) => number(value, 2);

/** Variants chosen on what was known then, judged on the sessions that followed. */
export function WalkForward({ sweep, choose }: Props) {
  const sessions = weekdays(sweep.start, sweep.end);
  const [train, setTrain] = useState(() => within(TRAINED, sessions / 2.5));
  const [test, setTest] = useState(() => within(JUDGED, (sessions - train) / 6));
  const [anchored, setAnchored] = useState(false);
  const walk = useWalk(sweep.id, train, test, anchored);
  const length = (label: string, value: number, of: number[], change: (to: number) => void) => (
    <select
      className="field mx-1"
      aria-label={label}
      value={value}
      onChange={(event) => change(Number(event.target.value))}
    >
      {of.map((count) => (
        <option key={count} value={count}>
          {plural(count, "session")}
        </option>
      ))}
    </select>
  );
  return (
    <section className="card flex flex-col gap-2 px-4 py-3" aria-label="Walking forward">
      <h3 className="font-sans text-head font-semibold">Walking forward</h3>
      <p>
        Every {length("Judged on", test, JUDGED, setTest)} the variant with the best Sharpe ratio is chosen,
        by
        {anchored ? " all sessions before, at least " : " the last "}
        {length("Chosen on", train, TRAINED, setTrain)} and held.
        <label className="ml-3 inline-flex items-center gap-1.5">
          <input type="checkbox" checked={anchored} onChange={(event) => setAnchored(event.target.checked)} />
          by all sessions before
        </label>
      </p>
      <ErrorNote error={walk.error} />
      {!walk.data && !walk.error && <Skeleton className="h-40" />}
      {walk.data && !walk.error && <Found sweep={sweep} walk={walk.data} choose={choose} />}
    </section>
  );
}

function Found({ sweep, walk, choose }: Props & { walk: Walk }) {
  const curves = useMemo(() => {
    const curve = (name: string, equity: number[]) => ({ name, dates: walk.dates, equity, start: 100 });
    return [
      curve("chosen as one went", walk.equity),
      ...(walk.beside ? [curve("the sheet’s values throughout", walk.beside)] : []),
    ];
  }, [walk]);
  return (
    <>
      <p className="font-serif text-head">
        Where they were chosen their Sharpe ratio was {ratio(walk.before)} on average; where they were judged,
        together, it is <b className={tone(walk.sharpe)}>{ratio(walk.sharpe)}</b>
        {walk.beaten !== null && `, better than ${percent(walk.beaten, 0)} of the variants held throughout`}.
      </p>
      <p className="text-soft">
        Over the same sessions the median variant has {ratio(walk.middle)}, the best {ratio(walk.best)}, which
        nobody knew before.
      </p>
      <div className="grid grid-cols-[1.2fr_1fr] items-start gap-3">
        <div className="min-w-0">
          <p className="text-xs font-medium">
            <span className="text-sea">— {curves[0]!.name}</span>
            {curves[1] && <span className="ml-4 text-loss">— {curves[1].name}</span>}
            <span className="ml-4 font-normal text-soft">equity, from 100</span>
          </p>
          <OverlayChart curves={curves} />
        </div>
        <div className="max-h-64 overflow-y-auto">
          <table className="plain">
            <thead>
              <tr>
                <Th>Judged</Th>
                <Th>Chosen</Th>
                <Th className="number">Before</Th>
                <Th className="number">After</Th>
              </tr>
            </thead>
            <tbody>
              {walk.steps.map((step) => (
                <tr key={step.test_from}>
                  <td
                    className="whitespace-nowrap"
                    title={`chosen on ${date(step.train_from)} to the session before; judged to ${date(step.test_to)}`}
                  >
                    {date(step.test_from)} –
                  </td>
                  <td>
                    {step.place === null ? (
                      <span className="text-soft">none moved</span>
                    ) : (
                      <button type="button" className="link text-left" onClick={() => choose(step.place!)}>
                        {wordsOf(sweep, step.place)}
                      </button>
                    )}
                  </td>
                  <td className="number">{ratio(step.before)}</td>
                  <td className={`number ${tone(step.after)}`}>{ratio(step.after)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      </div>
      <p className="text-xs text-soft">
        Each session counts as the chosen variant ran by itself all along: where the choice changes, positions
        are neither closed nor opened.
      </p>
    </>
  );
}

function wordsOf(sweep: Sweep, place: number): string {
  const cell = sweep.cells.find((item) => item.place === place);
  return sweep.dials.map((dial, i) => dial.values[cell?.at[i] ?? 0]).join(", ");
}
