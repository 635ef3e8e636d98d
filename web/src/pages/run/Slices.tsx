import { useDeferredValue } from "react";
import type { Schemas } from "../../api/client";
import { useSliceMeasures } from "../../api/runs";
import { HeldChart, SpreadChart } from "../../charts/SpreadCharts";
import { number, percent, signed, tone } from "../../ui/format";
import { Th } from "../../ui/Th";
import type { Choices } from "./useChoices";

type Column = Schemas["ColumnOut"];
type Cell = Schemas["CellOut"];

interface Props {
  found: Schemas["SlicesOut"];
  trades: Schemas["TradeRow"][];
  currency: string;
  choices: Choices;
  openTrade: (number: number) => void;
}

/** Trades told apart by what was known of them; a click on a value leaves only its trades, everywhere. */
export function Slices({ found, trades, currency, choices, openTrade }: Props) {
  // what is read comes first, what is drawn after it
  const drawn = useDeferredValue(trades);
  return (
    <div className="flex flex-col gap-3">
      <div className="grid grid-cols-2 gap-3">
        <section className="card min-w-0 px-2 py-2" aria-label="What trades made">
          <b className="px-1 font-semibold">What trades made, {currency}</b>
          <SpreadChart trades={drawn} currency={currency} />
        </section>
        <section className="card min-w-0 px-2 py-2" aria-label="P/L by days held">
          <b className="px-1 font-semibold">By days held</b>
          <HeldChart trades={drawn} currency={currency} onTrade={openTrade} />
        </section>
      </div>
      <div className="grid grid-cols-1 items-start gap-3 min-[1250px]:grid-cols-2">
        {found.columns.map((column) => (
          <ColumnTable
            key={column.id}
            column={column}
            toggle={(cell) => choices.toggle(`${column.id}:${cell.key}`)}
            onGone={column.measure ? () => choices.by(column.id) : undefined}
          />
        ))}
      </div>
      <p className="leading-8 text-soft">
        Tell apart also by <MeasureSelect taken={choices.measures} onChosen={choices.by} /> as it stood when
        each trade was decided. Ranges hold about as many trades each; the bar is the 90 % range of what a
        trade makes; <b className="text-ink">•</b> differs from the others by more than chance.
      </p>
    </div>
  );
}

function MeasureSelect({ taken, onChosen }: { taken: string[]; onChosen: (id: string) => void }) {
  const measures = useSliceMeasures().data ?? [];
  return (
    <select
      className="field"
      aria-label="Tell apart by a measure"
      value=""
      disabled={taken.length >= 6}
      onChange={(event) => event.target.value && onChosen(event.target.value)}
    >
      <option value="">a measure…</option>
      {measures
        .filter((measure) => !taken.includes(measure.id))
        .map((measure) => (
          <option key={measure.id} value={measure.id} title={measure.explains}>
            {measure.title}
          </option>
        ))}
    </select>
  );
}

interface ColumnProps {
  column: Column;
  toggle: (cell: Cell) => void;
  onGone?: () => void;
}

function ColumnTable({ column, toggle, onGone }: ColumnProps) {
  const ends = column.cells.flatMap((cell) => [...(cell.likely ?? []), cell.mean ?? 0]);
  const low = Math.min(0, ...ends);
  const high = Math.max(0, ...ends);
  const any = column.cells.some((cell) => cell.chosen);
  return (
    <section className="card until-near min-w-0" aria-label={`By ${column.title}`}>
      <table className="plain table-fixed">
        <thead>
          <tr>
            <Th className="w-[31%]">
              <b className="font-semibold text-ink">{column.title}</b>
              {onGone && (
                <button
                  type="button"
                  className="link ml-2"
                  onClick={onGone}
                  aria-label={`No longer by ${column.title}`}
                >
                  ×
                </button>
              )}
            </Th>
            <Th className="number">Trades</Th>
            <Th className="number">Won</Th>
            <Th className="number">A trade</Th>
            <Th className="w-[16%]">Range</Th>
            <Th className="number w-[15%]">Sum</Th>
          </tr>
        </thead>
        <tbody>
          {column.cells.map((cell) => (
            <tr
              key={cell.key}
              className={`${cell.chosen ? "bg-mark" : any || cell.count === 0 ? "text-soft" : ""} hover:bg-mark`}
            >
              <td className="truncate">
                <button
                  type="button"
                  className="w-full truncate text-left hover:text-sea"
                  aria-pressed={cell.chosen}
                  title={cell.title}
                  onClick={() => toggle(cell)}
                >
                  {cell.title}
                </button>
              </td>
              <td className="number">{number(cell.count)}</td>
              <td className="number">{percent(cell.win_rate, 0)}</td>
              <td className={`number whitespace-nowrap ${tone(cell.mean)}`}>
                {cell.apart && (
                  <b className="text-ink" title="Differs from the others by more than chance">
                    •{" "}
                  </b>
                )}
                {signed(cell.mean)}
              </td>
              <td>
                <Whisker cell={cell} low={low} high={high} />
              </td>
              <td className={`number ${tone(cell.total)}`}>{signed(cell.total)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** What a trade makes, with its likely range, on the scale of its column. */
function Whisker({ cell, low, high }: { cell: Cell; low: number; high: number }) {
  if (cell.mean === null) return null;
  const x = (value: number) => 2 + (96 * (value - low)) / (high - low || 1);
  const said = cell.likely
    ? `likely ${signed(cell.likely[0])} to ${signed(cell.likely[1])}`
    : "too few trades to say";
  return (
    <svg viewBox="0 0 100 16" preserveAspectRatio="none" className="h-4 w-full" role="img" aria-label={said}>
      <title>{said}</title>
      <line x1={x(0)} x2={x(0)} y1={0} y2={16} stroke="var(--hairline)" vectorEffect="non-scaling-stroke" />
      {cell.likely && (
        <line
          x1={x(cell.likely[0]!)}
          x2={x(cell.likely[1]!)}
          y1={8}
          y2={8}
          stroke="var(--soft)"
          strokeWidth={1.5}
          vectorEffect="non-scaling-stroke"
        />
      )}
      <line
        x1={x(cell.mean)}
        x2={x(cell.mean)}
        y1={3}
        y2={13}
        stroke={cell.mean < 0 ? "var(--loss)" : "var(--gain)"}
        strokeWidth={3}
        vectorEffect="non-scaling-stroke"
      />
    </svg>
  );
}
