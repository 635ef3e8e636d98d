import { useState } from "react";
import { type Desk, type Holding, useClosePosition, useProtect } from "../../api/desk";
import { number, signed, tone } from "../../ui/format";
import { LegGlyph } from "../../ui/LegGlyph";
import { Empty } from "../../ui/parts";
import { plainNumber } from "../../ui/read";
import { Th } from "../../ui/Th";
import { tell, tellError } from "../../ui/toast";

interface Props {
  desk: Desk;
  chosen: number | null;
  choose: (id: number | null) => void;
  onClose: (holding: Holding) => void;
}

/** Premium of a lot as people say it: what came in, or what was paid. */
export function premiumWords(price: number | null): string {
  if (price === null) return "–";
  return `${number(Math.abs(price), 2)} ${price > 0 ? "paid" : "taken in"}`;
}

export function Positions({ desk, chosen, choose, onClose }: Props) {
  const { holdings, account } = desk;
  if (holdings.length === 0)
    return (
      <section className="card" aria-label="Positions">
        <Empty title="No position.">
          Click a bid to sell or an ask to buy in the chain; what you click comes onto one ticket.
        </Empty>
      </section>
    );
  return (
    <section className="card overflow-x-auto" aria-label="Positions">
      <table className="plain" aria-label="Positions">
        <thead>
          <tr>
            <Th>Position</Th>
            <Th>Legs</Th>
            <Th className="number">Lots</Th>
            <Th className="number">Average</Th>
            <Th className="number">Mark</Th>
            <Th className="number">P/L mid</Th>
            <Th className="number">Closable</Th>
            <Th className="number">Delta</Th>
            <Th className="number">Theta</Th>
            <Th>What happens next</Th>
          </tr>
        </thead>
        <tbody>
          {holdings.map((row) => (
            <tr
              key={row.id}
              className={chosen === row.id ? "bg-mark" : "hover:bg-shade"}
              aria-selected={chosen === row.id}
              onClick={() => choose(chosen === row.id ? null : row.id)}
            >
              <td className="whitespace-nowrap">
                <button type="button" className="link" aria-expanded={chosen === row.id}>
                  {row.name}
                </button>
              </td>
              <td>
                <LegGlyph glyph={row.glyph} width={74} line={15} />
              </td>
              <td className="number">{row.lots}</td>
              <td className="number whitespace-nowrap" title={premiumWords(row.opened_price)}>
                {number(row.opened_price, 2)}
              </td>
              <td className="number">{number(row.mid_price, 2)}</td>
              <td className={`number font-medium ${tone(row.mid)}`}>{signed(row.mid)}</td>
              <td className={`number ${tone(row.closable)}`}>{signed(row.closable)}</td>
              <td className="number">{signed(row.greeks.delta, 1)}</td>
              <td className="number">{signed(row.greeks.theta)}</td>
              <td className="max-w-57.5 truncate text-soft" title={row.next}>
                {row.next}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {holdings
        .filter((row) => row.id === chosen)
        .map((row) => (
          <Chosen key={row.id} row={row} currency={account.currency} onClose={onClose} />
        ))}
    </section>
  );
}

function Chosen({
  row,
  currency,
  onClose,
}: {
  row: Holding;
  currency: string;
  onClose: (row: Holding) => void;
}) {
  const close = useClosePosition();
  return (
    <div className="flex flex-wrap items-start gap-x-6 gap-y-2 border-t px-3 py-2">
      <table className="plain w-auto!" aria-label="Legs">
        <tbody>
          {row.legs.map((leg) => (
            <tr key={leg.contract}>
              <td className={`font-semibold ${leg.contracts > 0 ? "text-sea" : "text-loss"}`}>
                {signed(leg.contracts)}
              </td>
              <td className="whitespace-nowrap">{leg.label}</td>
              <td className="number">{number(leg.opened, 2)}</td>
              <td className="number text-soft">
                {number(leg.bid, 2)} / {number(leg.ask, 2)}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Protection key={JSON.stringify(row.protection)} row={row} currency={currency} />
      <span className="ml-auto flex flex-col items-end gap-1">
        <button type="button" className="button small" disabled={row.closing} onClick={() => onClose(row)}>
          Close by ticket
        </button>
        <button
          type="button"
          className="link text-xs"
          disabled={row.closing || close.isPending}
          onClick={() =>
            close.mutate(
              { id: row.id },
              { onSuccess: () => tell("A market order to close all of it was sent."), onError: tellError },
            )
          }
        >
          {row.closing ? "is being closed" : "Close all at the market"}
        </button>
      </span>
      <dl className="flex w-full gap-x-4 text-xs" aria-label="Greeks">
        {(["delta", "gamma", "theta", "vega", "rho"] as const).map((name) => (
          <div key={name} className="flex gap-1">
            <dt className="text-soft">{name}</dt>
            <dd className="number">{signed(row.greeks[name], name === "gamma" ? 2 : 1)}</dd>
          </div>
        ))}
      </dl>
    </div>
  );
}

interface LevelText {
  value: string;
  unit: string;
}

/** Target and stop; one cancels the other, the desk watches them. */
function Protection({ row, currency }: { row: Holding; currency: string }) {
  const protect = useProtect();
  const [target, setTarget] = useState<LevelText>(row.protection.target ?? { value: "", unit: "money" });
  const [stop, setStop] = useState<LevelText>(row.protection.stop ?? { value: "", unit: "money" });
  const level = ({ value, unit }: LevelText) => (value.trim() ? { value: plainNumber(value), unit } : null);
  return (
    <form
      className="flex items-end gap-2"
      aria-label="Protection"
      onSubmit={(event) => {
        event.preventDefault();
        const body = { target: level(target), stop: level(stop) };
        protect.mutate(
          { id: row.id, body },
          {
            onSuccess: () =>
              tell(
                body.target || body.stop
                  ? "Protected; one cancels the other, also with this page closed."
                  : "The protection is taken away.",
              ),
            onError: tellError,
          },
        );
      }}
    >
      <Level name="Target, a profit of" level={target} set={setTarget} currency={currency} />
      <Level name="Stop, a loss of" level={stop} set={setStop} currency={currency} />
      <button
        type="submit"
        className="button small"
        disabled={protect.isPending || Boolean(row.protected_by)}
      >
        Protect
      </button>
    </form>
  );
}

function Level({
  name,
  level,
  set,
  currency,
}: {
  name: string;
  level: LevelText;
  set: (to: LevelText) => void;
  currency: string;
}) {
  return (
    <fieldset className="text-xs text-soft">
      <legend>{name}</legend>
      <span className="mt-0.5 flex">
        <input
          className="field number h-6 w-16 rounded-r-none border-r-0 px-1! text-ink"
          aria-label={name}
          value={level.value}
          onChange={(event) => set({ ...level, value: event.target.value })}
        />
        <select
          className="field h-6 rounded-l-none px-0.5!"
          aria-label={`Unit of ${name.split(",")[0]!.toLowerCase()}`}
          value={level.unit}
          onChange={(event) => set({ ...level, unit: event.target.value })}
        >
          <option value="money">{currency}</option>
          <option value="percent">%</option>
        </select>
      </span>
    </fieldset>
  );
}
