import type { Scene } from "../../api/replay";
import { number, signed, tone } from "../../ui/format";
import { Figure } from "../../ui/parts";

export function AccountFigures({ scene }: { scene: Scene }) {
  const { account, currency } = scene;
  const greeks = account.greeks;
  return (
    <div className="grid grid-cols-5 gap-3">
      <Figure
        label="P/L, closable"
        value={signed(account.pnl_closable)}
        tone={tone(account.pnl_closable)}
        note={`mid ${signed(account.pnl_mid)} ${currency}`}
      />
      <Figure label="Cash" value={number(account.cash)} note={`costs ${number(account.costs, 2)}`} />
      <Figure label="Delta" value={signed(greeks.delta, 1)} note={`${currency} a point`} />
      <Figure label="Theta" value={signed(greeks.theta)} note={`${currency} a day`} />
      <Figure label="Vega" value={signed(greeks.vega)} note={`${currency} a vol. point`} />
    </div>
  );
}
