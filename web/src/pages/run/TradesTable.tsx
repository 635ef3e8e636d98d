import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { day, number, signed, tone } from "../../ui/format";
import { LegGlyph } from "../../ui/LegGlyph";
import { Empty } from "../../ui/parts";

type Trade = Schemas["TradeRow"];

const GRID =
  "grid grid-cols-[--spacing(23.5)_--spacing(21)_minmax(--spacing(37.5),1.2fr)_--spacing(12.5)_--spacing(7)_--spacing(13)_--spacing(13.5)_--spacing(7.5)_minmax(--spacing(19),1fr)_--spacing(13.5)_--spacing(14.5)] items-center gap-x-2 px-3";

interface Column {
  title: string;
  key: (trade: Trade) => number | string;
  right?: boolean;
}

const COLUMNS: Column[] = [
  { title: "Entered", key: (t) => t.opened_at },
  { title: "Legs", key: (t) => t.legs.length },
  { title: "Strikes", key: (t) => Math.max(...t.legs.map((leg) => leg.strike)) },
  { title: "Expires", key: (t) => t.expires },
  { title: "DTE", key: (t) => t.dte, right: true },
  { title: "Premium", key: (t) => t.credit, right: true },
  { title: "To close", key: (t) => t.cost_to_close, right: true },
  { title: "Held", key: (t) => t.held, right: true },
  { title: "Left by", key: (t) => t.sentence ?? 99 },
  { title: "P/L", key: (t) => t.pnl, right: true },
  { title: "of it", key: (t) => t.of_premium ?? 0, right: true },
];

export function strikes(trade: Trade): string {
  return trade.legs
    .map(
      (leg) =>
        `${Math.abs(leg.contracts) > 1 ? `${Math.abs(leg.contracts)}×` : ""}${leg.right === "unit" ? "underlying" : `${leg.strike}${leg.right === "call" ? "C" : "P"}`}`,
    )
    .join(" ");
}

function glyphOf(trade: Trade) {
  return { legs: trade.legs, spot: trade.spot };
}

interface Props {
  run: Schemas["RunOut"];
  /** Those of the run that are shown. */
  trades: Trade[];
  open: (number: number) => void;
}

/** Trades of a run; only the rows in sight are drawn. */
export function TradesTable({ run, trades: shown, open }: Props) {
  const [sort, setSort] = useState<{ column: number; down: boolean }>({ column: 0, down: true });
  const trades = useMemo(() => {
    const key = COLUMNS[sort.column]!.key;
    const sorted = shown.toSorted((a, b) => {
      const [x, y] = [key(a), key(b)];
      return (x < y ? -1 : x > y ? 1 : 0) || a.number - b.number;
    });
    return sort.down ? sorted.reverse() : sorted;
  }, [shown, sort]);
  const place = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({
    count: trades.length,
    getScrollElement: () => place.current,
    estimateSize: () => 25,
    overscan: 12,
  });

  function steer(event: React.KeyboardEvent) {
    const by = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    const from = Number((event.target as HTMLElement).dataset.index);
    if (!by || Number.isNaN(from)) return;
    event.preventDefault();
    const to = Math.max(0, Math.min(trades.length - 1, from + by));
    rows.scrollToIndex(to);
    requestAnimationFrame(() => place.current?.querySelector<HTMLElement>(`[data-index="${to}"]`)?.focus());
  }

  if (run.trades.length === 0)
    return (
      <div className="card">
        <Empty title="No trade was opened.">
          {run.decisions.length === 0
            ? "There was no decision time in this period: look at weekdays and time."
            : `${run.decisions.length} decision times came and went. The last: ${run.decisions.at(-1)!.text}.`}
        </Empty>
      </div>
    );
  return (
    <section aria-label="Trades" className="min-w-0">
      <div className="mb-1 flex gap-3">
        <b className="font-semibold">Trades</b>
        <span className="text-soft">
          {trades.length < run.trades.length
            ? `${number(trades.length)} of ${number(run.trades.length)}; open one to read it`
            : `${number(trades.length)}; open one to read it, or click the curve above`}
        </span>
      </div>
      <div
        className="card overflow-x-auto"
        role="table"
        aria-label="Trades"
        aria-rowcount={trades.length + 1}
      >
        <div className="min-w-200">
          <div role="row" className={`${GRID} h-6.75 border-b text-xs text-soft`}>
            {COLUMNS.map((column, i) => (
              <span
                key={column.title}
                role="columnheader"
                aria-sort={sort.column === i ? (sort.down ? "descending" : "ascending") : "none"}
                className={column.right ? "number" : ""}
              >
                <button
                  type="button"
                  className="hover:text-ink"
                  onClick={() => setSort({ column: i, down: sort.column === i ? !sort.down : true })}
                >
                  {column.title}
                  {sort.column === i && (sort.down ? " ↓" : " ↑")}
                </button>
              </span>
            ))}
          </div>
          <div ref={place} className="h-75 overflow-y-auto" role="rowgroup">
            <div className="relative" style={{ height: rows.getTotalSize() }} role="presentation">
              {rows.getVirtualItems().map((row) => {
                const trade = trades[row.index]!;
                return (
                  <div
                    key={trade.number}
                    role="row"
                    tabIndex={0}
                    data-index={row.index}
                    aria-rowindex={row.index + 2}
                    className={`${GRID} absolute inset-x-0 h-6.25 cursor-pointer border-b border-line hover:bg-mark focus:bg-mark`}
                    style={{ transform: `translateY(${row.start}px)` }}
                    onClick={() => open(trade.number)}
                    onKeyDown={(event) => (event.key === "Enter" ? open(trade.number) : steer(event))}
                  >
                    <span role="cell" className="whitespace-nowrap" title={trade.opened_shown}>
                      {day(trade.opened)} {trade.opened.slice(2, 4)}
                    </span>
                    <span role="cell">
                      <LegGlyph glyph={glyphOf(trade)} width={84} line={trade.legs.length > 2 ? 11 : 16} />
                    </span>
                    <span role="cell" className="truncate">
                      {strikes(trade)}
                    </span>
                    <span role="cell">{day(trade.expires).slice(4)}</span>
                    <span role="cell" className="number">
                      {trade.dte}
                    </span>
                    <span role="cell" className="number">
                      {number(trade.credit, 0)}
                    </span>
                    <span role="cell" className="number">
                      {number(trade.cost_to_close, 0)}
                    </span>
                    <span role="cell" className="number">
                      {trade.held} d
                    </span>
                    <span role="cell" className="truncate text-soft" title={trade.reason}>
                      {trade.sentence ? `${trade.sentence}  ${trade.reason}` : trade.reason}
                    </span>
                    <span role="cell" className={`number font-medium ${tone(trade.pnl)}`}>
                      {signed(trade.pnl)}
                    </span>
                    <span role="cell" className={`number ${tone(trade.of_premium)}`}>
                      {trade.of_premium === null ? "–" : `${signed(trade.of_premium)} %`}
                    </span>
                  </div>
                );
              })}
            </div>
          </div>
        </div>
      </div>
    </section>
  );
}
