import { useState } from "react";
import { useOtherExits } from "../../api/runs";
import { number, signed, tone } from "../../ui/format";
import { ErrorNote, Skeleton } from "../../ui/parts";
import { Th } from "../../ui/Th";

interface Props {
  run: number;
  trade: number;
  pnl: number;
  currency: string;
}

/** What the trade would have made, had it been left otherwise: computed when somebody asks. */
export function OtherExits(props: Props) {
  const [open, setOpen] = useState(false);
  return (
    <section className="card" aria-label="Other exits">
      <button
        type="button"
        className="link w-full px-3 py-1.5 text-left"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
      >
        {open ? "▾" : "▸"} Had it been left otherwise
      </button>
      {open && <Table {...props} />}
    </section>
  );
}

function Table({ run, trade, pnl, currency }: Props) {
  const found = useOtherExits(run, trade);
  if (found.error)
    return (
      <div className="p-3">
        <ErrorNote error={found.error} onRetry={() => found.refetch()} />
      </div>
    );
  if (!found.data) return <Skeleton className="m-3 h-32" />;
  const { exits, same, changed } = found.data;
  if (exits.length === 0)
    return <p className="border-t px-3 py-2 text-soft">It went through a split: it cannot be lived again.</p>;
  return (
    <div className="border-t">
      {changed && (
        <p className="px-3 pt-2 text-loss">The data has changed since this run: these are today's quotes.</p>
      )}
      {!same && (
        <p className="px-3 pt-2 text-loss">
          With the sheet's exits alone it ends otherwise: a limit, other trades or changed data ended this
          one.
        </p>
      )}
      <table className="plain">
        <thead>
          <tr>
            <Th>With only</Th>
            <Th>Closed</Th>
            <Th className="number">Held</Th>
            <Th>What ended it</Th>
            <Th className="number">P/L, {currency}</Th>
            <Th className="number">Than it made</Th>
          </tr>
        </thead>
        <tbody>
          {exits.map((other) => (
            <tr key={other.how} className={other.acted ? "bg-mark" : ""}>
              <td>
                {other.sentence !== null && <span className="mr-2 text-soft">{other.sentence}</span>}
                {other.title}
                {other.acted && <span className="ml-2 text-xs text-soft">the one that acted</span>}
              </td>
              <td className="whitespace-nowrap">{other.closed_shown}</td>
              <td className="number">{other.held} d</td>
              <td className="text-soft">{other.reason}</td>
              <td className={`number ${tone(other.pnl)}`}>{signed(other.pnl, 2)}</td>
              <td className={`number font-medium ${tone(other.apart)}`}>{signed(other.apart, 2)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="px-3 py-2 text-xs text-soft">
        Each time the engine lives the trade again from its entry, at the sheet's fills and costs, with the
        capital it needs; made as it was: {number(pnl, 2)}.
      </p>
    </div>
  );
}
