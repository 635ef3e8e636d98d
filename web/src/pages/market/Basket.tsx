import { X } from "lucide-react";
import { useState } from "react";
import { type Pulled, type Surface, useWhatIf, type WhatIf } from "../../api/market";
import { WhatIfChart } from "../../charts/WhatIfChart";
import { dayAt } from "../../ui/DateSlide";
import { level, number, percent, signed, tone } from "../../ui/format";
import { LegGlyph } from "../../ui/LegGlyph";
import { Empty, ErrorNote, Figure, Skeleton } from "../../ui/parts";
import { Th } from "../../ui/Th";
import { tell } from "../../ui/toast";
import { ByDate } from "./ByDate";
import type { Leg } from "./basket";
import { Onward } from "./Onward";
import { Pulls } from "./Pulls";

interface Props {
  symbol: string;
  at: string | null;
  here: Surface;
  legs: Leg[];
  onLegs: (legs: Leg[]) => void;
}

const GREEKS = ["delta", "gamma", "theta", "vega", "rho", "vanna", "charm"] as const;
const NOTHING: Pulled = { vol: 0, by_expiration: {}, moving: false };

/** Legs taken from the chain, what they are worth now and what if price, date or volatility were others. */
export function Basket({ symbol, at, here, legs, onLegs }: Props) {
  const [pulled, setPulled] = useState<Pulled>(NOTHING);
  const [view, setView] = useState<"curve" | "dates">("curve");
  const answer = useWhatIf(symbol, at, legs, pulled);
  const found = legs.length > 0 ? answer.data : undefined;
  const change = (next: Leg[], said: string) => {
    const before = legs;
    onLegs(next);
    tell(said, { label: "Undo", run: () => onLegs(before) });
  };
  return (
    <section className="card flex min-h-160 flex-col px-3.5 py-2" aria-label="Basket">
      <div className="flex h-8 items-center gap-3">
        <h2 className="font-sans text-head font-semibold">Basket</h2>
        {found && found.glyph.legs.length > 0 && <LegGlyph glyph={found.glyph} />}
        <span className="ml-auto flex gap-3">
          <button
            type="button"
            className="link"
            title="As many units of the underlying as one option delivers"
            onClick={() => onLegs([...legs.filter((leg) => leg.contract), ...underlying(legs, here.spot)])}
          >
            add {symbol}
          </button>
          {legs.length > 0 && (
            <button type="button" className="link" onClick={() => change([], "The basket is empty.")}>
              clear
            </button>
          )}
        </span>
      </div>
      {legs.length === 0 ? (
        <Empty title="The basket is empty.">
          Click a bid to sell one, an ask to buy one. The basket shows what the legs are worth by price, date
          and volatility; nothing is traded.
        </Empty>
      ) : (
        <Legs legs={legs} found={found} onLegs={onLegs} onDrop={change} />
      )}
      <ErrorNote error={legs.length > 0 ? answer.error : null} />
      {legs.length > 0 && !found && !answer.error && <Skeleton className="mt-3 h-80" />}
      {found && !answer.error && (
        <>
          <Figures found={found} />
          <div className="mt-1.5 flex items-baseline gap-4 border-t pt-1.5">
            <Choice now={view} name="curve" onChoose={setView}>
              By price
            </Choice>
            <Choice now={view} name="dates" onChoose={setView}>
              By price and date
            </Choice>
            {view === "curve" && (
              <select
                className="field ml-auto h-6"
                aria-label="What the curve shows"
                value={pulled.greek ?? ""}
                onChange={(event) =>
                  setPulled({ ...pulled, greek: (event.target.value || null) as Pulled["greek"] })
                }
              >
                <option value="">P/L, {found.currency}</option>
                {GREEKS.map((name) => (
                  <option key={name}>{name}</option>
                ))}
              </select>
            )}
          </div>
          {view === "curve" ? (
            <WhatIfChart found={found} then={moved(pulled) ? "as pulled" : null} height={158} />
          ) : (
            <ByDate found={found} />
          )}
          <Pulls found={found} pulled={pulled} onPull={setPulled} onReset={() => setPulled(NOTHING)} />
          <Reading found={found} pulled={moved(pulled)} />
          <Onward symbol={symbol} at={at} here={here} legs={legs} capital={found.capital} />
        </>
      )}
    </section>
  );
}

function underlying(legs: Leg[], spot: number): Leg[] {
  const there = legs.find((leg) => !leg.contract);
  return [{ contract: null, contracts: (there?.contracts ?? 0) + 1, opened: there?.opened ?? spot }];
}

function moved(pulled: Pulled): boolean {
  const single = Object.values(pulled.by_expiration ?? {}).some((by) => by !== 0);
  return Boolean(pulled.price || pulled.when || pulled.vol || single);
}

function Choice<Name extends string>(props: {
  now: Name;
  name: Name;
  onChoose: (name: Name) => void;
  children: string;
}) {
  const on = props.now === props.name;
  return (
    <button
      type="button"
      aria-pressed={on}
      className={on ? "font-semibold" : "link"}
      onClick={() => props.onChoose(props.name)}
    >
      {props.children}
    </button>
  );
}

interface LegsProps {
  legs: Leg[];
  found: WhatIf | undefined;
  onLegs: (legs: Leg[]) => void;
  onDrop: (legs: Leg[], said: string) => void;
}

function Legs({ legs, found, onLegs, onDrop }: LegsProps) {
  const put = (at: number, changes: Partial<Leg>) =>
    onLegs(legs.map((leg, i) => (i === at ? { ...leg, ...changes } : leg)));
  return (
    <div className="max-h-33 overflow-y-auto">
      <table className="plain">
        <thead>
          <tr>
            <Th className="w-16">Contracts</Th>
            <Th>Leg</Th>
            <Th className="number w-20">Opened at</Th>
            <Th className="number w-12">IV</Th>
            <Th className="w-6" aria-label="Take off" />
          </tr>
        </thead>
        <tbody>
          {legs.map((leg, i) => {
            const told = found?.legs.find((row) => row.contract === leg.contract);
            const label = told?.label ?? leg.contract?.replaceAll("/", " ") ?? "the underlying";
            return (
              <tr key={leg.contract ?? "underlying"}>
                <td className="p-0.5!">
                  <Quiet
                    name={`Contracts of ${label}`}
                    value={leg.contracts}
                    least={-10_000}
                    tone={leg.contracts > 0 ? "text-sea" : "text-loss"}
                    shown={signed(leg.contracts, Number.isInteger(leg.contracts) ? 0 : 2)}
                    onValue={(value) => value !== 0 && put(i, { contracts: value })}
                  />
                </td>
                <td className="truncate">{label}</td>
                <td className="p-0.5!">
                  <Quiet
                    name={`Price of ${label}`}
                    value={leg.opened ?? told?.opened ?? 0}
                    least={0}
                    tone="text-right"
                    shown={number(leg.opened ?? told?.opened ?? 0, 2)}
                    onValue={(value) => put(i, { opened: value })}
                  />
                </td>
                <td className="number">{number(told?.iv, 1)}</td>
                <td className="p-0! text-center">
                  <button
                    type="button"
                    className="text-soft hover:text-ink"
                    aria-label={`Take off ${label}`}
                    onClick={() =>
                      onDrop(
                        legs.filter((other) => other !== leg),
                        `${label} is off the basket.`,
                      )
                    }
                  >
                    <X size={13} />
                  </button>
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </div>
  );
}

/** A number that is edited where it stands; what cannot be a number is put back. */
function Quiet(props: {
  name: string;
  value: number;
  least: number;
  tone: string;
  shown: string;
  onValue: (value: number) => void;
}) {
  const [typed, setTyped] = useState<string | null>(null);
  const done = () => {
    const value = Number(typed);
    if (typed !== null && typed.trim() !== "" && Number.isFinite(value) && value >= props.least)
      props.onValue(value);
    setTyped(null);
  };
  return (
    <input
      inputMode="decimal"
      className={`w-full rounded-card border border-transparent bg-transparent px-1 hover:border-hairline focus:border-sea ${props.tone}`}
      aria-label={props.name}
      value={typed ?? props.shown}
      onFocus={(event) => {
        setTyped(String(props.value));
        requestAnimationFrame(() => event.target.select());
      }}
      onChange={(event) => setTyped(event.target.value)}
      onBlur={done}
      onKeyDown={(event) => event.key === "Enter" && done()}
    />
  );
}

function Figures({ found }: { found: WhatIf }) {
  const edges = found.break_evens;
  const bound = (value: number | null) => (value === null ? "unbounded" : signed(value));
  return (
    <div className="mt-1.5 grid grid-cols-3 gap-x-3 gap-y-1" title={`At expiration, ${found.found}`}>
      <Figure
        label={found.premium >= 0 ? "Credit" : "Debit"}
        value={signed(found.premium, 0)}
        tone={tone(found.premium)}
        note={`${found.currency}, as opened`}
      />
      <Figure label="At best" value={bound(found.max_profit)} tone="text-gain" note={when(found)} />
      <Figure label="At worst" value={bound(found.max_loss)} tone="text-loss" note={when(found)} />
      <Figure
        label="Ends in profit"
        value={percent(found.chance_of_profit, 0)}
        note={found.chance_from === "smile" ? "implied by the quotes" : "implied, lognormal"}
      />
      <Figure
        label="On average"
        value={signed(found.expected)}
        tone={tone(found.expected)}
        note="implied, before costs"
      />
      <Figure
        label="Capital"
        value={found.capital === null ? "–" : number(found.capital)}
        note={found.capital_for || `${found.currency}, the price itself`}
        title={found.capital_for}
      />
      <p className="col-span-3 text-xs text-soft">
        Break-even {edges.length > 0 ? edges.map((edge) => level(edge)).join(" and ") : "nowhere"}
        {found.nearest < found.last && ` on ${dayAt(found.nearest, found.zone_name)}, the nearest expiration`}
        .
      </p>
    </div>
  );
}

function when(found: WhatIf): string {
  return found.nearest < found.last ? "nearest expiration" : "at expiration";
}

/** What the pulled price, date and volatilities come to, in a sentence. */
function Reading({ found, pulled }: { found: WhatIf; pulled: boolean }) {
  const greeks = found.greeks_then;
  return (
    <p className="mt-auto border-t pt-1.5 font-serif text-lead" role="status">
      {pulled
        ? `At ${level(found.price)} on ${dayAt(found.when, found.zone_name)} it would stand at `
        : "It stands at "}
      <b className={tone(found.then_here)}>
        {signed(found.then_here)} {found.currency}
      </b>
      <span className="font-sans text-xs text-soft">
        {" "}
        · delta {signed(greeks.delta, 1)} · gamma {signed(greeks.gamma, 2)} · theta {signed(greeks.theta, 1)}{" "}
        a day · vega {signed(greeks.vega, 1)} · vanna {signed(greeks.vanna, 2)} · charm{" "}
        {signed(greeks.charm, 2)} a day
      </span>
    </p>
  );
}
