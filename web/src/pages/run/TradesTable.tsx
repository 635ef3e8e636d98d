import { useVirtualizer } from "@tanstack/react-virtual";
import { DropdownMenu } from "radix-ui";
import { type ReactNode, useMemo, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { useDecided } from "../../api/queries";
import { day, number, price, signed, tone } from "../../ui/format";
import { LegGlyph } from "../../ui/LegGlyph";
import { Empty } from "../../ui/parts";
import type { Run } from "../strategy/types";

type Trade = Schemas["TradeRow"];

export function strikes(trade: Trade): string {
  const units = trade.legs.filter((leg) => leg.right === "unit");
  // units that were held one after the other are a hedge, whose sizes say nothing here
  const shown = units.length > 1 ? trade.legs.filter((leg) => leg.right !== "unit") : trade.legs;
  const found = new Map<string, number>();
  for (const leg of shown) {
    const side = leg.right === "call" ? "C" : "P";
    const code = leg.right === "unit" ? "underlying" : `${leg.strike}${side}`;
    // what came in pieces, or came back, is told once
    const key = `${leg.contracts > 0 ? "" : "-"}${code}`;
    found.set(key, (found.get(key) ?? 0) + Math.abs(leg.contracts));
  }
  const words = [...found].map(
    ([key, contracts]) => `${contracts > 1 ? `${contracts}×` : ""}${key.replace("-", "")}`,
  );
  return [...words, ...(units.length > 1 ? ["hedged with the underlying"] : [])].join(" ");
}

interface Column {
  id: string;
  title: string;
  /** By which the table is sorted. */
  key: (trade: Trade) => number | string;
  cell: (trade: Trade) => ReactNode;
  width: string;
  right?: boolean;
  /** Colours it by its sign. */
  tone?: (trade: Trade) => number | null | undefined;
  hint?: (trade: Trade) => string;
  /** Shown until somebody chooses otherwise. */
  usual?: boolean;
}

const rem = (quarters: number) => `${quarters / 4}rem`;

const COLUMNS: Column[] = [
  {
    id: "number",
    title: "No.",
    key: (t) => t.number,
    cell: (t) => number(t.number),
    width: rem(9),
    right: true,
  },
  {
    id: "opened",
    title: "Entered",
    key: (t) => t.opened_at,
    cell: (t) => `${day(t.opened)} ${t.opened.slice(2, 4)}`,
    hint: (t) => t.opened_shown,
    width: rem(23.5),
    usual: true,
  },
  {
    id: "symbol",
    title: "On",
    key: (t) => t.symbol,
    cell: (t) => t.symbol,
    width: rem(14),
  },
  {
    id: "legs",
    title: "Legs",
    key: (t) => t.legs.length,
    cell: (t) => (
      <LegGlyph glyph={{ legs: t.legs, spot: t.spot }} width={84} line={t.legs.length > 2 ? 11 : 16} />
    ),
    width: rem(21),
    usual: true,
  },
  {
    id: "strikes",
    title: "Strikes",
    key: (t) => Math.max(...t.legs.map((leg) => leg.strike)),
    cell: strikes,
    width: `minmax(${rem(37.5)}, 1.2fr)`,
    usual: true,
  },
  {
    id: "expires",
    title: "Expires",
    key: (t) => t.expires,
    cell: (t) => day(t.expires).slice(4),
    width: rem(12.5),
    usual: true,
  },
  { id: "dte", title: "DTE", key: (t) => t.dte, cell: (t) => t.dte, width: rem(7), right: true, usual: true },
  { id: "lots", title: "Lots", key: (t) => t.lots, cell: (t) => number(t.lots), width: rem(8), right: true },
  {
    id: "spot",
    title: "Price then",
    key: (t) => t.spot,
    cell: (t) => price(t.spot),
    width: rem(15),
    right: true,
  },
  {
    id: "delta",
    title: "Delta",
    key: (t) => t.delta ?? 0,
    cell: (t) => number(t.delta, 2),
    width: rem(11),
    right: true,
  },
  {
    id: "credit",
    title: "Premium",
    key: (t) => t.credit,
    cell: (t) => number(t.credit),
    width: rem(13),
    right: true,
    usual: true,
  },
  {
    id: "close",
    title: "To close",
    key: (t) => t.cost_to_close,
    cell: (t) => number(t.cost_to_close),
    width: rem(13.5),
    right: true,
    usual: true,
  },
  {
    id: "held",
    title: "Held",
    key: (t) => t.held,
    cell: (t) => `${t.held} d`,
    width: rem(8.5),
    right: true,
    usual: true,
  },
  {
    id: "closed",
    title: "Left",
    key: (t) => t.closed,
    cell: (t) => `${day(t.closed)} ${t.closed.slice(2, 4)}`,
    hint: (t) => t.closed_shown,
    width: rem(23.5),
  },
  {
    id: "by",
    title: "Left by",
    key: (t) => t.sentence ?? 99,
    cell: (t) => <span className="text-soft">{t.sentence ? `${t.sentence}  ${t.reason}` : t.reason}</span>,
    hint: (t) => t.reason,
    width: `minmax(${rem(19)}, 1fr)`,
    usual: true,
  },
  {
    id: "costs",
    title: "Costs",
    key: (t) => t.costs,
    cell: (t) => number(t.costs, 2),
    width: rem(12),
    right: true,
  },
  {
    id: "pnl",
    title: "P/L",
    key: (t) => t.pnl,
    cell: (t) => <b className="font-medium">{signed(t.pnl)}</b>,
    width: rem(13.5),
    right: true,
    tone: (t) => t.pnl,
    usual: true,
  },
  {
    id: "share",
    title: "of it",
    key: (t) => t.of_premium ?? 0,
    cell: (t) => (t.of_premium === null ? "–" : `${signed(t.of_premium)} %`),
    width: rem(14.5),
    right: true,
    tone: (t) => t.of_premium,
    usual: true,
  },
];

const KEPT = "strell.trade-columns";

/** Which columns a person wants to see, remembered by the browser; which underlying a trade is of is shown where they
 * are of several. */
function useColumns(several: boolean): [Column[], (id: string) => void] {
  const [chosen, setChosen] = useState<string[]>(() => {
    const kept = localStorage.getItem(KEPT)?.split(",") ?? [];
    const known = kept.filter((id) => COLUMNS.some((column) => column.id === id));
    return known.length > 0 ? known : COLUMNS.filter((column) => column.usual).map((column) => column.id);
  });
  const toggle = (id: string) => {
    const to = chosen.includes(id) ? chosen.filter((item) => item !== id) : [...chosen, id];
    if (to.length === 0) return;
    localStorage.setItem(KEPT, to.join(","));
    setChosen(to);
  };
  const shown = (column: Column) => chosen.includes(column.id) || (several && column.id === "symbol");
  return [COLUMNS.filter(shown), toggle];
}

function ColumnMenu({ shown, toggle }: { shown: Column[]; toggle: (id: string) => void }) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="link ml-auto">Columns</DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content className="popover min-w-36 py-1" align="end" sideOffset={6}>
          {COLUMNS.map((column) => (
            <DropdownMenu.CheckboxItem
              key={column.id}
              className="flex cursor-pointer items-center gap-2 px-3 py-0.5 outline-none data-[highlighted]:bg-seawash"
              checked={shown.includes(column)}
              onCheckedChange={() => toggle(column.id)}
              onSelect={(event) => event.preventDefault()}
            >
              <span className="w-4">{shown.includes(column) ? "✓" : ""}</span>
              {column.title === "of it" ? "of the premium" : column.title}
            </DropdownMenu.CheckboxItem>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

interface Props {
  run: Run;
  /** Those of the run that are shown. */
  trades: Trade[];
  open: (number: number) => void;
}

function NoTrades({ run }: { run: Run }) {
  const decisions = useDecided(run.id).data?.decisions;
  return (
    <div className="card">
      <Empty title="No trade was opened.">
        {decisions?.length === 0 && "There was no decision time in this period: look at weekdays and time."}
        {decisions &&
          decisions.length > 0 &&
          `${number(decisions.length)} decision times came and went. The last: ${decisions.at(-1)!.text}.`}
      </Empty>
    </div>
  );
}

/** Trades of a run; only the rows in sight are drawn. */
export function TradesTable({ run, trades: shown, open }: Props) {
  const [columns, toggle] = useColumns(new Set(run.trades.map((trade) => trade.symbol)).size > 1);
  const [sort, setSort] = useState({ column: "opened", down: true });
  const grid = "grid items-center gap-x-2 px-3";
  const style = { gridTemplateColumns: columns.map((column) => column.width).join(" ") };
  const trades = useMemo(() => {
    const key = COLUMNS.find((column) => column.id === sort.column)!.key;
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

  if (run.trades.length === 0) return <NoTrades run={run} />;
  return (
    <section aria-label="Trades" className="until-near min-w-0">
      <div className="mb-1 flex gap-3">
        <b className="font-semibold">Trades</b>
        <span className="text-soft">
          {trades.length < run.trades.length
            ? `${number(trades.length)} of ${number(run.trades.length)}; open one to read it`
            : `${number(trades.length)}; open one to read it, or click the curve above`}
        </span>
        <ColumnMenu shown={columns} toggle={toggle} />
      </div>
      <div
        className="card overflow-x-auto"
        role="table"
        aria-label="Trades"
        aria-rowcount={trades.length + 1}
      >
        <div className="min-w-200">
          <div role="row" className={`${grid} h-6.75 border-b text-xs text-soft`} style={style}>
            {columns.map((column) => (
              <span
                key={column.id}
                role="columnheader"
                aria-sort={sort.column === column.id ? (sort.down ? "descending" : "ascending") : "none"}
                className={column.right ? "number" : ""}
              >
                <button
                  type="button"
                  className="hover:text-ink"
                  onClick={() =>
                    setSort({ column: column.id, down: sort.column === column.id ? !sort.down : true })
                  }
                >
                  {column.title}
                  {sort.column === column.id && (sort.down ? " ↓" : " ↑")}
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
                    className={`${grid} absolute inset-x-0 h-6.25 cursor-pointer border-b border-line hover:bg-mark focus:bg-mark`}
                    style={{ ...style, transform: `translateY(${row.start}px)` }}
                    onClick={() => open(trade.number)}
                    onKeyDown={(event) => (event.key === "Enter" ? open(trade.number) : steer(event))}
                  >
                    {columns.map((column) => (
                      <span
                        key={column.id}
                        role="cell"
                        className={`truncate ${column.right ? "number" : ""} ${column.tone ? tone(column.tone(trade)) : ""}`}
                        title={column.hint?.(trade)}
                      >
                        {column.cell(trade)}
                      </span>
                    ))}
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
