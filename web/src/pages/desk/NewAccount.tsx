import { type FormEvent, useState } from "react";
import { Refusal } from "../../api/client";
import { useOpenAccount } from "../../api/desk";
import { useUnderlyings } from "../../api/queries";
import { plainNumber } from "../../ui/read";

export function NewAccount({ done }: { done: (id: number) => void }) {
  const open = useOpenAccount();
  const [name, setName] = useState("");
  const [kind, setKind] = useState("paper");
  const [chosen, setSymbol] = useState("");
  const markets = useUnderlyings().data?.filter((row) => row.traded) ?? [];
  const market = markets.find((row) => row.symbol === chosen) ?? markets[0];
  const [cash, setCash] = useState("50000");
  function submit(event: FormEvent) {
    event.preventDefault();
    open.mutate(
      { name, kind, symbol: market?.symbol ?? "", cash: plainNumber(cash) },
      { onSuccess: (made) => done(made.id) },
    );
  }
  return (
    <form
      className="card flex flex-wrap items-end gap-3 px-3 py-2"
      aria-label="New account"
      onSubmit={submit}
      noValidate
    >
      <label className="text-xs text-soft">
        Name
        <input
          className="field mt-0.5 block w-36"
          value={name}
          maxLength={40}
          onChange={(e) => setName(e.target.value)}
        />
      </label>
      <label className="text-xs text-soft">
        Trades
        <select
          className="field mt-0.5 block"
          value={market?.symbol ?? ""}
          onChange={(e) => {
            setSymbol(e.target.value);
            setKind("paper");
          }}
        >
          {markets.map((row) => (
            <option key={row.symbol} value={row.symbol}>
              {row.symbol}
            </option>
          ))}
        </select>
      </label>
      <label className="text-xs text-soft">
        Kind
        <select className="field mt-0.5 block" value={kind} onChange={(e) => setKind(e.target.value)}>
          <option value="paper">paper, matched by Strell</option>
          <option value="practice" disabled={market?.delivers}>
            at the practice broker{market?.delivers ? ", cash-settled options only" : ""}
          </option>
        </select>
      </label>
      <label className="text-xs text-soft">
        Cash, {market?.currency ?? ""}
        <input
          className="field number mt-0.5 block w-28"
          value={cash}
          onChange={(e) => setCash(e.target.value)}
        />
      </label>
      <button type="submit" className="button primary" disabled={open.isPending}>
        Open account
      </button>
      {open.error instanceof Refusal && (
        <p role="alert" className="w-full text-loss">
          {open.error.message}
        </p>
      )}
    </form>
  );
}
