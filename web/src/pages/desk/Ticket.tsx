import { X } from "lucide-react";
import { Slider } from "radix-ui";
import { useEffect, useMemo, useRef, useState } from "react";
import { Refusal, type Schemas } from "../../api/client";
import { type Desk, usePlace, useTicket } from "../../api/desk";
import { number, signed } from "../../ui/format";
import { useKeys } from "../../ui/keyboard";
import { LegGlyph } from "../../ui/LegGlyph";
import { plainNumber } from "../../ui/read";
import { Th } from "../../ui/Th";
import { tell } from "../../ui/toast";
import { KIND_WORD } from "./AccountBand";
import { priceWords } from "./Orders";

export interface Basket {
  legs: Record<string, number>;
  /** The holding this closes. */
  holding: number | null;
  lots: string;
}

interface Props {
  desk: Desk;
  basket: Basket;
  change: (basket: Basket | null) => void;
}

/** One order with all its legs: price, how long, what protects it, and what it would do in sentences. */
export function Ticket({ desk, basket, change }: Props) {
  const { account } = desk;
  const [type, setType] = useState("limit");
  const [price, setPrice] = useState<{ shape: string; limit: string } | null>(null);
  const [tif, setTif] = useState("day");
  const [target, setTarget] = useState("");
  const [stop, setStop] = useState("");
  const [unit, setUnit] = useState("percent");
  const sent = useRef(crypto.randomUUID());
  const place = usePlace(account.id);
  const legs = useMemo(
    () => Object.entries(basket.legs).map(([contract, ratio]) => ({ contract, ratio })),
    [basket.legs],
  );
  const level = (value: string) => (value.trim() ? { value: plainNumber(value), unit } : null);
  const shape = JSON.stringify(basket.legs);
  // a price belongs to the legs it was set for
  const limit = price?.shape === shape ? price.limit : null;
  const setLimit = (to: string) => setPrice({ shape, limit: to });
  const ticket: Schemas["TicketIn"] = {
    legs,
    lots: plainNumber(basket.lots),
    type,
    limit: type === "limit" ? limit : null,
    time_in_force: tif,
    holding: basket.holding,
    protection: basket.holding === null ? { target: level(target), stop: level(stop) } : null,
    client_id: "",
  };
  const view = useTicket(account.id, ticket, desk.clock.running);
  const seen = view.data;
  const sides = seen?.sides;
  const fresh = seen !== undefined && !view.isPlaceholderData;
  const start = fresh && limit === null && type === "limit" ? sides?.mid_limit : undefined;
  // a new structure starts at its mid
  useEffect(() => {
    if (start !== undefined) setPrice({ shape, limit: start.toFixed(2) });
  }, [start, shape]);

  const problems = (seen?.problems ?? []).filter((p) => !(p.path === "limit" && limit === null));
  const refused = place.error instanceof Refusal ? place.error : null;
  // what is sent is what was read back, not what was typed since
  const ready = !place.isPending && problems.length === 0 && fresh;
  function send() {
    if (!ready) return;
    place.mutate(
      { ...ticket, client_id: sent.current },
      {
        onSuccess: (order) => {
          tell(`Order ${order.id} is ${order.state === "ready" ? "on its way" : order.state}.`);
          change(null);
        },
        onError: (error) => {
          // only an answer says that nothing went out; the same order again is the same order
          if (error instanceof Refusal && error.decided) sent.current = crypto.randomUUID();
        },
      },
    );
  }
  useKeys({ "ctrl+enter": send, escape: () => change(null) });

  return (
    <section
      className={`${account.kind}-ticket flex min-h-0 flex-col rounded-card bg-surface`}
      aria-label="Ticket"
    >
      <header className={`${account.kind}-band flex items-center px-3 py-1.5 text-xs`}>
        <b className="font-semibold tracking-widest">{KIND_WORD[account.kind]} TICKET</b>
        <span className="ml-auto">
          {desk.clock.symbol}
          {desk.clock.age !== null && ` · quotes ${desk.clock.age.toFixed(1)} s old`}
        </span>
        <button type="button" className="ml-2" aria-label="Put the ticket away" onClick={() => change(null)}>
          <X size={14} />
        </button>
      </header>
      <div className="flex min-h-0 flex-col gap-2 overflow-y-auto px-3 py-2">
        <div className="flex items-center gap-3">
          {seen?.glyph && <LegGlyph glyph={seen.glyph} width={86} />}
          <b className="font-semibold">
            {basket.holding === null ? "One order" : "Closes"},{" "}
            {legs.length === 1 ? "one leg" : `${legs.length} legs`}
          </b>
          <label className="ml-auto flex items-center gap-1.5 text-soft">
            lots
            <input
              className="field number h-7 w-14 font-semibold text-ink"
              value={basket.lots}
              aria-invalid={problems.some((p) => p.path === "lots")}
              onChange={(event) => change({ ...basket, lots: event.target.value })}
            />
          </label>
        </div>
        <Legs seen={seen} basket={basket} change={change} />
        <div className="flex items-center gap-2">
          <select
            className="field h-7 px-1!"
            aria-label="Order type"
            value={type}
            onChange={(e) => setType(e.target.value)}
          >
            <option value="limit">limit</option>
            <option value="market">market</option>
          </select>
          <select
            className="field h-7 px-1!"
            aria-label="Good for"
            value={tif}
            onChange={(e) => setTif(e.target.value)}
          >
            <option value="day">for the day</option>
            <option value="gtc">good till cancelled</option>
          </select>
          {type === "limit" && (
            <Price limit={limit} setLimit={setLimit} bad={problems.some((p) => p.path === "limit")} />
          )}
        </div>
        {type === "limit" && sides && (
          <Rail
            sides={sides}
            last={seen?.last ?? null}
            limit={Number(limit ?? sides.mid_limit)}
            setLimit={setLimit}
            tick={seen?.tick ?? 0.01}
          />
        )}
        {basket.holding === null && (
          <div className="flex items-center gap-1.5 text-soft">
            <span>Leave at a profit of</span>
            <input
              className="field number h-7 w-14 px-1! text-ink"
              aria-label="Target"
              value={target}
              onChange={(e) => setTarget(e.target.value)}
            />
            <span>or loss of</span>
            <input
              className="field number h-7 w-14 px-1! text-ink"
              aria-label="Stop"
              value={stop}
              onChange={(e) => setStop(e.target.value)}
            />
            <select
              className="field h-7 min-w-0 flex-1 px-1!"
              aria-label="Unit of target and stop"
              value={unit}
              onChange={(e) => setUnit(e.target.value)}
            >
              <option value="percent">% premium</option>
              <option value="money">{account.currency}</option>
            </select>
          </div>
        )}
        <p
          className="border-l-2 border-ink bg-shade px-3 py-2 font-serif text-lead leading-5"
          aria-live="polite"
          data-readback
        >
          {seen?.sentences.length
            ? seen.sentences.join(" ")
            : "Choose legs and a price to read what the order would do."}
        </p>
      </div>
      <footer className="flex shrink-0 flex-col gap-1 border-t px-3 py-2">
        {refused && !refused.decided && (
          <p role="alert" className="text-loss">
            The answer was lost, so the order may be out: look at the orders of this account. Sending it again
            sends it once only.
          </p>
        )}
        {[...new Set([...problems.map((p) => p.message), ...(refused ? [refused.message] : [])])].map(
          (text) => (
            <p key={text} role="alert" className="text-loss">
              {text}
            </p>
          ),
        )}
        <div className="flex items-center gap-3">
          <button type="button" className={`button ${account.kind}-button`} disabled={!ready} onClick={send}>
            {account.kind === "paper" ? "Place on paper" : "Send to the practice broker"}
          </button>
          <kbd className="ml-auto rounded border px-1 text-fine text-soft">Ctrl Enter</kbd>
        </div>
      </footer>
    </section>
  );
}

/** What a lot takes in or pays, as an amount with its direction. */
function Price({
  limit,
  setLimit,
  bad,
}: {
  limit: string | null;
  setLimit: (to: string) => void;
  bad: boolean;
}) {
  const credit = (limit ?? "").startsWith("-");
  const amount = (limit ?? "").replace("-", "");
  return (
    <span className="ml-auto flex items-center gap-1.5">
      <select
        className="field h-7 px-1!"
        aria-label="Credit or debit"
        value={credit ? "credit" : "debit"}
        onChange={(event) => setLimit(event.target.value === "credit" ? `-${amount}` : amount)}
      >
        <option value="credit">credit a lot</option>
        <option value="debit">debit a lot</option>
      </select>
      <input
        className="field number h-7 w-17.5 font-semibold"
        aria-label="Limit a lot"
        aria-invalid={bad}
        value={amount}
        onChange={(event) =>
          setLimit(`${credit ? "-" : ""}${plainNumber(event.target.value).replace("-", "")}`)
        }
      />
    </span>
  );
}

function Legs({
  seen,
  basket,
  change,
}: {
  seen: Schemas["TicketOut"] | undefined;
  basket: Basket;
  change: Props["change"];
}) {
  const drop = (contract: string) => {
    const { [contract]: _, ...rest } = basket.legs;
    change(Object.keys(rest).length ? { ...basket, legs: rest } : null);
  };
  return (
    <table className="plain" aria-label="Legs of the order">
      <thead>
        <tr>
          <Th aria-label="Contracts a lot" />
          <Th>Leg</Th>
          <Th className="number">Bid</Th>
          <Th className="number">Ask</Th>
          <Th className="number">Delta</Th>
          <Th aria-label="Take out" />
        </tr>
      </thead>
      <tbody>
        {seen?.legs.map((leg) => (
          <tr key={leg.contract}>
            <td className={`font-semibold ${leg.ratio > 0 ? "text-sea" : "text-loss"}`}>
              {signed(leg.ratio)}
            </td>
            <td className="whitespace-nowrap">{leg.label}</td>
            <td className="number" title={`${leg.bid_size} bid for`}>
              {number(leg.bid, 2)}
            </td>
            <td className="number" title={`${leg.ask_size} offered`}>
              {number(leg.ask, 2)}
            </td>
            <td className="number">{number(leg.delta, 2)}</td>
            <td className="number">
              <button
                type="button"
                className="text-soft"
                aria-label={`Take out ${leg.label}`}
                onClick={() => drop(leg.contract)}
              >
                <X size={12} />
              </button>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** The limit between joining the own side and taking the other side. */
function Rail({
  sides,
  last,
  limit,
  setLimit,
  tick,
}: {
  sides: Schemas["PricesOut"];
  last: number | null;
  limit: number;
  setLimit: (limit: string) => void;
  tick: number;
}) {
  const low = Math.round(sides.own / tick);
  const high = Math.round(sides.other / tick);
  const at = (price: number) => (Math.round(price / tick) * tick).toFixed(2);
  const choices: [string, number | null][] = [
    ["own side", sides.own],
    ["mid", sides.mid_limit],
    ["other side", sides.other],
    ["last trade", last],
  ];
  const mixed = sides.own < 0 !== sides.other < 0;
  return (
    <div>
      <Slider.Root
        className="relative flex h-5 items-center"
        min={low}
        max={Math.max(high, low + 1)}
        step={1}
        value={[Math.min(Math.max(Math.round(limit / tick), low), high)]}
        onValueChange={([value]) => setLimit(at(value! * tick))}
      >
        <Slider.Track className="h-1.5 w-full rounded-full bg-line" />
        <Slider.Thumb
          className="block size-4 rounded-full border-2 border-sea bg-surface"
          aria-label="Limit between own side and other side"
        />
      </Slider.Root>
      <div className="flex justify-between text-xs text-soft">
        {choices.map(([name, price]) => (
          <button
            key={name}
            type="button"
            className="link text-xs"
            disabled={price === null}
            title={price === null ? "not every leg has traded yet" : undefined}
            onClick={() => price !== null && setLimit(at(price))}
          >
            {name} {price === null ? "–" : mixed ? priceWords(price) : number(Math.abs(price), 2)}
          </button>
        ))}
      </div>
    </div>
  );
}
