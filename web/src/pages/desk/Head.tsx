import { useState } from "react";
import { type Desk, useSetLimits } from "../../api/desk";
import { number, signed, tone } from "../../ui/format";
import { Figure } from "../../ui/parts";
import { tell, tellError } from "../../ui/toast";

export function Head({ desk, pills }: { desk: Desk; pills: React.ReactNode }) {
  const { account } = desk;
  const loss = Number(account.limits.day_loss ?? 0);
  const near = account.session_pnl !== null && loss > 0 && -account.session_pnl > loss * 0.7;
  return (
    <section className="flex items-end gap-6" aria-label="Account figures">
      <Figure
        label="today"
        value={signed(account.session_pnl)}
        tone={tone(account.session_pnl)}
        note={`${account.currency}, costs ${number(account.costs)}`}
      />
      <Figure
        label="open, closable"
        value={signed(account.open_closable)}
        tone={tone(account.open_closable)}
        note={`mid ${signed(account.open_mid)}`}
      />
      <Figure label="delta" value={signed(account.greeks.delta, 1)} note={`${account.currency} a point`} />
      <Figure label="theta" value={signed(account.greeks.theta)} note={`${account.currency} a day`} />
      <div className="min-w-0">
        <Figure
          label="loss limit today"
          value={loss ? number(-loss) : "none"}
          tone={near ? "text-loss" : ""}
          note={near ? "near" : "not near"}
        />
      </div>
      <div className="ml-auto flex flex-col items-end gap-1.5">
        {pills}
        <LimitsEditor desk={desk} />
      </div>
    </section>
  );
}

const LIMITS: [string, string][] = [
  ["lots", "lots an order"],
  ["notional", "notional an order"],
  ["orders_a_minute", "orders a minute"],
  ["day_loss", "loss a day"],
  ["collar", "% of the spread beyond the other side"],
];

function LimitsEditor({ desk }: { desk: Desk }) {
  const { account } = desk;
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState<Record<string, string>>({});
  const save = useSetLimits(account.id);
  if (!open)
    return (
      <button type="button" className="link text-xs" onClick={() => setOpen(true)}>
        Limits
      </button>
    );
  return (
    <form
      className="card absolute z-30 mt-6 flex flex-col gap-1 p-3"
      aria-label="Limits"
      onSubmit={(event) => {
        event.preventDefault();
        const body = Object.fromEntries(
          Object.entries(typed).map(([key, value]) => [key, value.trim() ? value.replace(/\s/g, "") : null]),
        );
        save.mutate(body, {
          onSuccess: () => {
            tell("The limits hold from the next order on.");
            setOpen(false);
          },
          onError: tellError,
        });
      }}
    >
      {LIMITS.map(([key, words]) => (
        <label key={key} className="flex items-center justify-between gap-3 text-soft">
          {words}
          <input
            className="field number h-6 w-28 text-ink"
            value={typed[key] ?? String(account.limits[key] ?? "")}
            placeholder="no limit"
            onChange={(event) => setTyped({ ...typed, [key]: event.target.value })}
          />
        </label>
      ))}
      <span className="mt-1 flex gap-3">
        <button type="submit" className="button small" disabled={save.isPending}>
          Keep
        </button>
        <button type="button" className="link text-xs" onClick={() => setOpen(false)}>
          Leave as they are
        </button>
      </span>
    </form>
  );
}
