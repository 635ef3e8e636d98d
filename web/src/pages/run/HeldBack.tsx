import { type FormEvent, useState } from "react";
import { Refusal, type Schemas } from "../../api/client";
import { useHoldBack } from "../../api/sweeps";
import { DateField } from "../../ui/DateField";
import { Window } from "../../ui/Dialog";
import { date, number, percent, plural, signed, signedPercent, tone } from "../../ui/format";
import { Th } from "../../ui/Th";
import { tell, tellError } from "../../ui/toast";

interface Props {
  strategy: Schemas["StrategyOut"];
  /** The last recorded session. */
  last: string;
}

/** Whether sessions are held back, and from when on: chosen before rules are tried. */
export function HoldBack({ strategy, last }: Props) {
  const [open, setOpen] = useState(false);
  const { held_from, looks } = strategy;
  return (
    <>
      <button
        type="button"
        className="link"
        title={held_from ? `Sessions from ${date(held_from)} on: ${seen(looks)}` : undefined}
        onClick={() => setOpen(true)}
      >
        {held_from ? `held back from ${date(held_from)}` : "Hold sessions back…"}
      </button>
      <Window
        open={open}
        onOpenChange={setOpen}
        title="Sessions held back"
        about="Rules that are changed until they please fit the past they were tried on. Sessions that no backtest and no sweep has seen tell what they are worth; each look at them is counted, for the second tells less than the first."
      >
        {open && <HoldForm strategy={strategy} last={last} done={() => setOpen(false)} />}
      </Window>
    </>
  );
}

const seen = (looks: number) => (looks === 0 ? "not looked at yet" : `seen by ${plural(looks, "run")}`);

function HoldForm({ strategy, last, done }: Props & { done: () => void }) {
  const hold = useHoldBack(strategy.id);
  const [since, setSince] = useState(strategy.held_from ?? last);
  const problem = hold.error instanceof Refusal ? hold.error.message : hold.error?.message;
  function submit(event: FormEvent) {
    event.preventDefault();
    // the form of the next run, which this one stands in, is not meant
    event.stopPropagation();
    hold.mutate(since, {
      onSuccess: (held) => {
        done();
        tell(
          held.looks > 0
            ? `Held back from ${date(held.held_from)}: ${seen(held.looks)} already.`
            : `Sessions from ${date(held.held_from)} on are held back.`,
        );
      },
    });
  }
  return (
    <form onSubmit={submit} className="flex flex-col gap-3" aria-label="Hold sessions back" noValidate>
      <label className="flex items-center gap-2">
        <span className="text-soft">From</span>
        <DateField value={since} bad={!!problem} onChange={setSince} />
        <span className="text-soft">on; recorded is up to {date(last)}</span>
      </label>
      {problem && (
        <p role="alert" className="text-loss">
          {problem}
        </p>
      )}
      <p className="text-xs text-soft">
        Replay and the preview of the rules show every recorded session all the same.
      </p>
      <div className="flex gap-3">
        <button type="submit" className="button primary" disabled={hold.isPending}>
          Hold back
        </button>
        {strategy.held_from && (
          <button
            type="button"
            className="button"
            onClick={() =>
              hold.mutate(null, {
                onSuccess: () => {
                  done();
                  tell("No session is held back any more.");
                },
                onError: tellError,
              })
            }
          >
            No longer
          </button>
        )}
      </div>
    </form>
  );
}

type Side = Schemas["PartOut"];

/** A look at sessions held back: what the rules made before them and in them. */
export function Held({ held, currency }: { held: Schemas["HeldOut"]; currency: string }) {
  const { before, after } = held;
  const rows: [string, (side: Side) => string, (side: Side) => number | null | undefined][] = [
    ["Sharpe", (side) => number(side.sharpe, 2), (side) => side.sharpe],
    [
      "likely",
      (side) =>
        side.likely ? `${number(side.likely[0], 2)} to ${number(side.likely[1], 2)}` : "too short to say",
      () => null,
    ],
    ["CAGR", (side) => signedPercent(side.cagr), (side) => side.cagr],
    ["Drawdown", (side) => signedPercent(side.max_drawdown), () => null],
    ["Trades", (side) => number(side.trades), () => null],
    ["Won", (side) => percent(side.win_rate, 0), () => null],
    [`A trade, ${currency}`, (side) => signed(side.expectancy), (side) => side.expectancy],
  ];
  return (
    <section className="card flex flex-wrap items-start gap-x-8 gap-y-2 px-4 py-3" aria-label="Held back">
      <div className="w-full">
        <h3 className="font-sans text-head font-semibold">Held back from {date(held.since)}</h3>
        <p>
          This is look {number(held.look)} at them.{" "}
          {held.look === 1
            ? "The rules were made without these sessions, if nobody knew them otherwise."
            : "What was changed since the first may have been fitted to them."}
        </p>
      </div>
      <table className="plain w-auto">
        <thead>
          <tr>
            <Th />
            {rows.map(([title]) => (
              <Th key={title} className="number">
                {title}
              </Th>
            ))}
          </tr>
        </thead>
        <tbody>
          {(
            [
              [`before, ${plural(before.sessions, "session")}`, before],
              [`held back, ${plural(after.sessions, "session")}`, after],
            ] as const
          ).map(([title, side]) => (
            <tr key={title}>
              <td>{title}</td>
              {rows.map(([name, text, value]) => (
                <td key={name} className={`number ${tone(value(side))}`}>
                  {text(side)}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
