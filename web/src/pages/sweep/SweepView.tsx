import { useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import type { Document } from "../../api/queries";
import { useOpenCell, useSweepAction } from "../../api/sweeps";
import { date, number, percent, plural, signed, signedPercent } from "../../ui/format";
import { Progress } from "../../ui/parts";
import { tell, tellError } from "../../ui/toast";
import { cases } from "../run/Luck";
import { withValue } from "../strategy/document";
import { Best } from "./Best";
import { HeatMap, type Tile } from "./HeatMap";
import { WalkForward } from "./WalkForward";

type Sweep = Schemas["SweepOut"];
type Variant = Schemas["VariantOut"];

interface Props {
  sweep: Sweep;
  /** The strategy's sheet as it is now. */
  document: Document;
  save: (document: Document) => Promise<unknown>;
}

const PERCENT = ["max_drawdown", "trades_win_rate", "time_in_market"];

/** How a figure reads. */
export function textOf(sweep: Sweep, id: string): (value: number) => string {
  const kind = sweep.figures.find((figure) => figure.id === id)?.kind;
  if (kind === "share") return (value) => (PERCENT.includes(id) ? percent(value) : signedPercent(value));
  if (kind === "money") return (value) => (id === "final_equity" ? number(value) : signed(value));
  return (value) => number(value, kind === "count" ? 0 : 2);
}

/** What a variant is looked at by: a figure, of itself or of itself and its neighbours. */
export function shown(cell: Variant, figure: string, near: boolean): number | null {
  const found = near ? cell.near[figure] : cell.figures?.[figure];
  return typeof found === "number" ? found : null;
}

/** A sweep: a map of its variants, the best of them and what choosing it is worth. */
export function SweepView({ sweep, document, save }: Props) {
  const [query, setQuery] = useSearchParams();
  const [fixed, setFixed] = useState<Record<number, number>>({});
  const figure = sweep.best_by.includes(query.get("by") ?? "") ? query.get("by")! : "mar";
  const near = query.get("near") === "1";
  const chosen = query.get("cell") === null ? null : Number(query.get("cell"));
  const set = (name: string, value: string | null) => {
    const to = new URLSearchParams(query);
    if (value === null) to.delete(name);
    else to.set(name, value);
    setQuery(to, { replace: true });
  };
  const text = useMemo(() => textOf(sweep, figure), [sweep, figure]);
  const [across, down, ...others] = sweep.dials;
  const at = (dial: number) => fixed[dial] ?? sweep.dials[dial]!.now ?? 0;
  const tiles: Tile[] = sweep.cells
    .filter((cell) => others.every((_, i) => cell.at[i + 2] === at(i + 2)))
    .map((cell) => ({
      place: cell.place,
      at: cell.at,
      value: shown(cell, figure, near),
      none: cell.problem ? "not sound" : cell.done ? "no value" : "…",
    }));
  const cell = sweep.cells.find((item) => item.place === chosen);
  return (
    <section className="flex flex-col gap-3" aria-label={`Sweep ${sweep.number}`}>
      <Head sweep={sweep} onGone={() => setQuery({})} />
      <div className="card flex flex-col gap-2 px-3 py-2.5">
        <div className="flex flex-wrap items-center gap-3">
          <label className="flex items-center gap-1.5">
            <span className="text-soft">Show</span>
            <select className="field" value={figure} onChange={(event) => set("by", event.target.value)}>
              {sweep.best_by.map((id) => (
                <option key={id} value={id}>
                  {sweep.figures.find((item) => item.id === id)?.title}
                </option>
              ))}
            </select>
          </label>
          <button
            type="button"
            className="pill"
            aria-pressed={near}
            title="The mean of a variant and its neighbours: a peak that stands alone is luck, a plateau may be more."
            onClick={() => set("near", near ? null : "1")}
          >
            with its neighbours
          </button>
          {others.map((dial, i) => (
            <label key={dial.label} className="flex items-center gap-1.5">
              <span className="text-soft">{dial.label}</span>
              <select
                className="field"
                value={at(i + 2)}
                onChange={(event) => setFixed({ ...fixed, [i + 2]: Number(event.target.value) })}
              >
                {dial.values.map((value, place) => (
                  <option key={value} value={place}>
                    {value}
                  </option>
                ))}
              </select>
            </label>
          ))}
          {[across!, ...(down ? [down] : [])].every((dial) => dial.now !== null) && (
            <span className="ml-auto text-xs text-soft">dashed: what the sheet had</span>
          )}
        </div>
        <HeatMap
          across={across!}
          down={down ?? null}
          tiles={tiles}
          acrossOf={(tile) => tile.at[0]!}
          downOf={(tile) => tile.at[1] ?? 0}
          text={text}
          chosen={chosen}
          choose={(place) => set("cell", place === chosen ? null : String(place))}
        />
      </div>
      {cell && <Chosen sweep={sweep} cell={cell} document={document} save={save} />}
      <div className="grid grid-cols-[1.3fr_1fr] items-start gap-3">
        <Best
          sweep={sweep}
          figure={figure}
          near={near}
          chosen={chosen}
          choose={(place) => set("cell", String(place))}
        />
        <Worth sweep={sweep} />
      </div>
      {sweep.luck && <WalkForward sweep={sweep} choose={(place) => set("cell", String(place))} />}
    </section>
  );
}

function Head({ sweep, onGone }: { sweep: Sweep; onGone: () => void }) {
  const action = useSweepAction();
  const act = (name: "cancel" | "go-on") =>
    action.mutate({ id: sweep.id, action: name }, { onError: tellError });
  const remove = () =>
    action.mutate(
      { id: sweep.id, action: "delete" },
      {
        onSuccess: () => {
          onGone();
          tell(`Sweep ${sweep.number} is gone.`, {
            label: "Undo",
            run: () => void action.mutateAsync({ id: sweep.id, action: "restore" }).catch(tellError),
          });
        },
        onError: tellError,
      },
    );
  return (
    <div>
      <div className="flex flex-wrap items-center gap-3">
        <h3 className="font-sans text-head font-semibold">Sweep {sweep.number}</h3>
        <span className="text-soft">
          revision {sweep.revision} · {date(sweep.start)} – {date(sweep.end)} ·{" "}
          {plural(sweep.cells_count, "variant")}
          {sweep.drawn !== null && ", drawn by chance"}
          {sweep.status !== "running" && ` · ${sweep.status}`}
        </span>
        <span className="ml-auto flex gap-3">
          {sweep.status === "running" && (
            <button type="button" className="link" onClick={() => act("cancel")}>
              Cancel
            </button>
          )}
          {sweep.status === "cancelled" && (
            <button type="button" className="button small" onClick={() => act("go-on")}>
              Go on
            </button>
          )}
          {sweep.status !== "running" && (
            <button type="button" className="link" onClick={remove}>
              Delete
            </button>
          )}
        </span>
      </div>
      {sweep.status !== "done" && (
        <div className="mt-1.5" aria-live="polite">
          <Progress share={sweep.cells_done / sweep.cells_count} label={`Sweep ${sweep.number}`} />
          <p className="mt-1 text-xs text-soft">
            {number(sweep.cells_done)} of {number(sweep.cells_count)}
            {sweep.status === "cancelled" && "; what is there stays"}
          </p>
        </div>
      )}
    </div>
  );
}

interface ChosenProps extends Props {
  cell: Variant;
}

function Chosen({ sweep, cell, document, save }: ChosenProps) {
  const [, setQuery] = useSearchParams();
  const open = useOpenCell();
  const taken = sweep.dials.map((dial, i) => `${dial.label} ${dial.values[cell.at[i]!]}`).join(", ");
  const take = () => {
    let to = document;
    sweep.dials.forEach((dial, i) => {
      for (const path of dial.paths) to = withValue(to, path, dial.taken[cell.at[i]!]);
    });
    return save(to).catch(tellError);
  };
  return (
    <section
      className="card flex flex-wrap items-center gap-x-4 gap-y-1.5 px-4 py-2.5"
      aria-label="Chosen variant"
    >
      <b className="font-semibold">{taken}</b>
      {cell.problem && <span className="text-loss">{cell.problem}</span>}
      {cell.figures &&
        [
          "cagr",
          "max_drawdown",
          "mar",
          "sharpe",
          "trades_count",
          "trades_win_rate",
          "trades_expectancy",
          "trades_worst",
        ].map((id) => {
          const value = cell.figures?.[id];
          const about = sweep.figures.find((item) => item.id === id);
          return (
            <span key={id} title={about?.explains}>
              <span className="text-soft">{about?.title} </span>
              {typeof value === "number" ? textOf(sweep, id)(value) : "–"}
            </span>
          );
        })}
      {!cell.problem && (
        <span className="ml-auto flex gap-3">
          <button
            type="button"
            className="button small"
            disabled={open.isPending}
            onClick={() =>
              open.mutate(
                { sweep: sweep.id, place: cell.place },
                { onSuccess: (run) => setQuery({ run: String(run.number) }), onError: tellError },
              )
            }
          >
            Open as a run
          </button>
          <button type="button" className="button small" onClick={take}>
            Take into the sheet
          </button>
        </span>
      )}
    </section>
  );
}

/** What choosing the best of so many is worth, in plain words. */
function Worth({ sweep }: { sweep: Sweep }) {
  const { luck } = sweep;
  return (
    <section className="card flex flex-col gap-1.5 px-4 py-3" aria-label="What choosing the best is worth">
      <h3 className="font-sans text-head font-semibold">What choosing the best is worth</h3>
      {!luck ? (
        <p className="text-soft">
          {sweep.status === "running"
            ? "Said when the sweep is done."
            : "Of fewer than two variants with trades there is nothing to say."}
        </p>
      ) : (
        <>
          {luck.alike ? (
            <p className="font-serif text-head">
              {number(luck.variants)} variants were tried, which resemble each other and are worth about{" "}
              {plural(Math.round(luck.alike.independent), "independent one")}: a Sharpe ratio as good as the
              best one’s, {number(luck.sharpe, 2)}, is expected by chance in {cases(luck.alike.chance)}.
            </p>
          ) : (
            luck.chance !== null && (
              <p className="font-serif text-head">
                With {number(luck.variants)} variants tried, a Sharpe ratio as good as the best one’s,{" "}
                {number(luck.sharpe, 2)}, is expected by chance in {cases(luck.chance)}.
              </p>
            )
          )}
          {luck.alike && luck.chance !== null && (
            <p className="text-soft">
              Counted as though each were another than all others, it would be expected in{" "}
              {cases(luck.chance)}.
            </p>
          )}
          <p className="text-soft">
            Without any edge the best of {number(luck.variants)} that differ as these do is expected to reach{" "}
            {number(luck.best_by_chance, 2)}
            {luck.deflated !== null &&
              `; that the true one is above that is ${percent(luck.deflated, 0)} likely (deflated Sharpe ratio)`}
            .
          </p>
          {luck.overfit !== null && (
            <p className="text-soft">
              Cut into halves in {number(luck.splits)} ways, the variant that was best in one half was in the
              worse half of all in the other one {percent(luck.overfit, 0)} of the time (probability of
              overfitting). Near 50 % choosing was worth nothing.
            </p>
          )}
        </>
      )}
    </section>
  );
}
