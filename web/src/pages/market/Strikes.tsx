import { useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { day, number, percent, signed } from "../../ui/format";
import { Th } from "../../ui/Th";
import type { Leg } from "./basket";

type Side = Schemas["SideOut"];

interface Props {
  chain: Schemas["ChainOut"];
  spot: number;
  legs: Leg[];
  /** Whether every strike is listed, or those near the money. */
  all: boolean;
  onAll: (all: boolean) => void;
  onExpiration: (date: string) => void;
  onPick: (leg: Leg) => void;
}

const NEAR = 4;

type Column = { head: string; title: string; of: (side: Side) => string };

const QUOTED: Column[] = [
  { head: "Open int.", title: "Contracts open as last published", of: (side) => number(side.open_interest) },
  { head: "IV", title: "Implied volatility of the quotes, percent a year", of: (side) => number(side.iv, 1) },
  { head: "Delta", title: "Change of value for one point", of: (side) => number(side.delta, 2) },
];
const FITTED: Column[] = [
  {
    head: "Touches",
    title: "Chance that the price reaches the strike before",
    of: (side) => percent(side.touches, 0),
  },
  { head: "Ends in", title: "Chance to end in the money", of: (side) => percent(side.ends_in, 0) },
  {
    head: "Worth",
    title: "Value by the fitted curve, also where nobody quotes",
    of: (side) => number(side.value, 2),
  },
];

const told = (side: Side, name: string) => side.told?.[name] ?? null;
const TOLD: Record<string, Column> = {
  last: { head: "Last", title: "Price of the last trade", of: (side) => number(told(side, "last"), 2) },
  volume: {
    head: "Traded",
    title: "Contracts traded in the session",
    of: (side) => number(told(side, "volume")),
  },
  sizes: {
    head: "Sizes",
    title: "Contracts bid for and offered",
    of: (side) => `${number(told(side, "bid_size"))} × ${number(told(side, "ask_size"))}`,
  },
  iv: {
    head: "IV given",
    title: "Implied volatility as the file gave it; ours is under “as quoted”",
    // some files give 0.2312, others 23.12
    of: (side) => number(told(side, "iv"), (told(side, "iv") ?? 0) < 3 ? 4 : 2),
  },
};
const VIEWS = { quoted: "as quoted", fitted: "by the curve", told: "trades and sizes" } as const;
type View = keyof typeof VIEWS;

function columnsOf(view: View, names: string[]): Column[] {
  if (view === "quoted") return QUOTED;
  if (view === "fitted") return FITTED;
  const known = new Set(names.map((name) => (name.endsWith("_size") ? "sizes" : name)));
  return ["last", "volume", "sizes", "iv"].filter((name) => known.has(name)).map((name) => TOLD[name]!);
}

/** The chain of one expiration. A bid sells one, an ask buys one into the basket; arrow keys move. */
export function Strikes({ chain, spot, legs, all, onAll, onExpiration, onPick }: Props) {
  const [wanted, setView] = useState<View>("quoted");
  const place = useRef<HTMLTableSectionElement>(null);
  const told = chain.told ?? [];
  const views = (Object.keys(VIEWS) as View[]).filter((view) => view !== "told" || told.length > 0);
  const view = views.includes(wanted) ? wanted : "quoted";
  const columns = columnsOf(view, told);
  if (!chain.expiration)
    return <section className="card p-6 text-soft">No expiration has quotes at this instant.</section>;
  const below = chain.rows.findLastIndex((row) => row.strike <= spot);
  const inBasket = new Map(legs.map((leg) => [leg.contract, leg.contracts]));
  const chosen = chain.expirations.findIndex((item) => item.date === chain.expiration);
  const from = Math.max(0, Math.min(chosen - 2, chain.expirations.length - NEAR));
  const near = chain.expirations.slice(from, from + NEAR);

  function steer(event: React.KeyboardEvent) {
    const by = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] }[event.key];
    const at = (event.target as HTMLElement).dataset.cell?.split(",").map(Number);
    if (!by || !at) return;
    event.preventDefault();
    place.current?.querySelector<HTMLElement>(`[data-cell="${at[0]! + by[0]!},${at[1]! + by[1]!}"]`)?.focus();
  }

  const price = (
    side: Side,
    which: "bid" | "ask",
    row: number,
    column: number,
    label: string,
    inside: boolean,
  ) => {
    const value = side[which];
    const sells = which === "bid";
    return (
      <td className={`number p-0! ${inside ? "bg-shade" : ""}`}>
        <button
          type="button"
          data-cell={`${row},${column}`}
          className="h-full w-full px-2 text-right hover:bg-seawash disabled:cursor-default disabled:text-soft"
          aria-label={`${sells ? "Sell" : "Buy"} 1 ${label} at ${number(value, 2)}`}
          disabled={value === null || (sells && value === 0)}
          onClick={() => onPick({ contract: side.contract, contracts: sells ? -1 : 1, opened: value })}
        >
          {number(value, 2)}
        </button>
      </td>
    );
  };
  const chip = (side: Side) => {
    const count = inBasket.get(side.contract);
    return (
      <td className="w-9 px-0.5! text-center">
        {count ? (
          <span className={`rounded-card px-1 text-xs font-semibold ${count > 0 ? "text-sea" : "text-loss"}`}>
            {signed(count)}
          </span>
        ) : null}
      </td>
    );
  };
  const extra = (side: Side, order: Column[], inside: boolean) =>
    order.map((column) => (
      <td key={column.head} className={`number px-2! text-soft ${inside ? "bg-shade" : ""}`}>
        {column.of(side)}
      </td>
    ));
  const heads = (order: Column[]) =>
    order.map((column) => (
      <Th key={column.head} className="number px-2!" title={column.title}>
        {column.head}
      </Th>
    ));
  const mirrored = [...columns].reverse();

  return (
    <section aria-label="Chain" className="flex min-w-0 flex-col gap-2">
      <div className="flex items-center gap-1.5">
        {near.map((item) => (
          <button
            key={item.date}
            type="button"
            aria-pressed={item.date === chain.expiration}
            className={`rounded-card border px-2 py-0.5 whitespace-nowrap ${item.date === chain.expiration ? "border-sea bg-sea text-onsea" : "bg-surface hover:bg-seawash"}`}
            onClick={() => onExpiration(item.date)}
          >
            {day(item.date)} · {item.days} d
          </button>
        ))}
        <select
          className="field h-6 w-21"
          aria-label="Any expiration"
          value=""
          onChange={(event) => onExpiration(event.target.value)}
        >
          <option value="">{chain.expirations.length} in all</option>
          {chain.expirations.map((item) => (
            <option key={item.date} value={item.date}>
              {day(item.date)} · {item.days} d
            </option>
          ))}
        </select>
        <button type="button" className="link ml-auto whitespace-nowrap" onClick={() => onAll(!all)}>
          {all ? "near strikes" : "all strikes"}
        </button>
        {views
          .filter((name) => name !== view)
          .map((name) => (
            <button
              key={name}
              type="button"
              className="link ml-2 whitespace-nowrap"
              onClick={() => setView(name)}
            >
              {VIEWS[name]}
            </button>
          ))}
      </div>
      <div className="card max-h-108 overflow-y-auto">
        <table className="plain">
          <thead className="sticky top-0 bg-surface">
            <tr>
              {heads(columns)}
              <Th className="number px-2!">Call bid</Th>
              <Th className="number px-2!">Ask</Th>
              <Th aria-label="Calls in the basket" />
              <Th className="text-center!">Strike</Th>
              <Th aria-label="Puts in the basket" />
              <Th className="number px-2!">Put bid</Th>
              <Th className="number px-2!">Ask</Th>
              {heads(mirrored)}
            </tr>
          </thead>
          <tbody ref={place} onKeyDown={steer}>
            {chain.rows.map((row, i) => {
              const [callIn, putIn] = [row.strike < spot, row.strike > spot];
              const name = `${day(chain.expiration!)} ${row.strike}`;
              return (
                <tr key={row.strike} className={i === below ? "[&>td]:border-b-2 [&>td]:border-b-ink" : ""}>
                  {extra(row.call, columns, callIn)}
                  {price(row.call, "bid", i, 0, `${name} call`, callIn)}
                  {price(row.call, "ask", i, 1, `${name} call`, callIn)}
                  {chip(row.call)}
                  <td
                    className="border-x px-2! text-center font-semibold"
                    title={row.vol === null ? "" : `the curve's volatility is ${number(row.vol, 2)} %`}
                  >
                    {number(row.strike, Number.isInteger(row.strike) ? 0 : 2)}
                  </td>
                  {chip(row.put)}
                  {price(row.put, "bid", i, 2, `${name} put`, putIn)}
                  {price(row.put, "ask", i, 3, `${name} put`, putIn)}
                  {extra(row.put, mirrored, putIn)}
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
    </section>
  );
}
