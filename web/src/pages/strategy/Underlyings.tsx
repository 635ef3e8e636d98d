import { Popover } from "radix-ui";
import { useState } from "react";
import { type Document, useUnderlyings } from "../../api/queries";
import { ErrorNote } from "../../ui/parts";
import { tradersOf, withUnderlyings } from "./document";

interface Props {
  document: Document;
  save: (document: Document) => Promise<unknown>;
}

/** Which underlyings a strategy looks at and trades; by the snapshots of the first it decides. */
export function Underlyings({ document, save }: Props) {
  const known = useUnderlyings();
  const [error, setError] = useState<unknown>(null);
  const symbols = document.underlyings as string[];
  const names = new Map(known.data?.map((row) => [row.symbol, row.name]));
  const more = known.data?.filter((row) => !symbols.includes(row.symbol)) ?? [];
  const set = (next: string[]) => {
    setError(null);
    save(withUnderlyings(document, next)).catch(setError);
  };
  return (
    <Popover.Root onOpenChange={() => setError(null)}>
      <Popover.Trigger className="pill" aria-label={`Underlyings: ${symbols.join(", ")}`}>
        {symbols.join(", ")}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          className="popover flex w-96 flex-col gap-2 p-3.5"
          align="start"
          sideOffset={6}
          aria-label="Underlyings"
        >
          <b className="font-semibold">Underlyings</b>
          <ul>
            {symbols.map((symbol, place) => {
              const traders = tradersOf(document, symbol);
              const said = traders.length > 0 ? `traded by ${traders.join(", ")}` : "looked at only";
              return (
                <li key={symbol} className="flex items-baseline gap-3 border-b py-1 last:border-0">
                  <b className="w-16 font-medium">{symbol}</b>
                  <span className="min-w-0 flex-1 text-xs text-soft">
                    {names.get(symbol)}
                    <span className="block">
                      {place === 0 ? "decides by its snapshots; " : ""}
                      {symbols.length > 1 || traders.length === 0 ? said : "traded"}
                    </span>
                  </span>
                  {place > 0 && (
                    <button
                      type="button"
                      className="link text-xs"
                      onClick={() => set([symbol, ...symbols.filter((other) => other !== symbol)])}
                    >
                      Decide by it
                    </button>
                  )}
                  {symbols.length > 1 && (
                    <button
                      type="button"
                      className="link text-xs"
                      aria-label={`Remove ${symbol}`}
                      disabled={traders.length > 0}
                      title={traders.length > 0 ? `${said}: have it trade another one first` : undefined}
                      onClick={() => set(symbols.filter((other) => other !== symbol))}
                    >
                      Remove
                    </button>
                  )}
                </li>
              );
            })}
          </ul>
          {more.length > 0 && (
            <select
              className="field h-7"
              aria-label="Add an underlying"
              value=""
              onChange={(event) => set([...symbols, event.target.value])}
            >
              <option value="">Add one…</option>
              {more.map((row) => (
                <option key={row.symbol} value={row.symbol}>
                  {row.symbol}, {row.name}
                </option>
              ))}
            </select>
          )}
          <ErrorNote error={error} />
          <p className="border-t pt-2 text-xs text-soft">
            Values may be of any of them. Which one an entry trades is chosen at ⋮ beside its heading; all
            that is traded has one currency.
          </p>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
