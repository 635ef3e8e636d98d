import { useState } from "react";
import { type Coverage, useFacts, useRemoveFact } from "../../api/data";
import { date, plural } from "../../ui/format";
import { Skeleton } from "../../ui/parts";
import { Th } from "../../ui/Th";
import { tell, tellError } from "../../ui/toast";

const KINDS: [name: keyof Coverage["beside"], one: string, many: string][] = [
  ["bars", "daily bar", "daily bars"],
  ["intraday", "session of bars", "sessions of bars"],
  ["dividends", "dividend", "dividends"],
  ["splits", "split", "splits"],
  ["events", "event", "events"],
];
const MOST = 400;

/** A cell: dates in words, instants as day and time of the exchange. */
function shown(name: string, value: unknown): string {
  if (value === null || value === undefined) return "";
  if (name === "date") return date(String(value));
  if (name === "at") return `${date(String(value))} ${String(value).slice(11, 16)}`;
  return String(value);
}

/** What is known of an underlying beside its chains: bars, dividends, splits, events. */
export function Beside({ seen }: { seen: Coverage }) {
  const [kind, setKind] = useState<keyof Coverage["beside"] | null>(null);
  const facts = useFacts(seen.symbol, kind ?? "", kind !== null);
  const remove = useRemoveFact(seen.symbol, kind ?? "");
  const single = kind === "dividends" || kind === "splits" || kind === "events";
  const known = KINDS.filter(([name]) => seen.beside[name] > 0);
  const rows = [...(facts.data ?? [])].reverse();
  const columns = Object.keys(rows[0] ?? {});
  return (
    <section className="card" aria-label="Beside the chains">
      <p className="flex flex-wrap gap-x-4 px-3 py-1.5">
        <span className="text-soft">Beside the chains:</span>
        {known.length === 0 && (
          <span className="text-soft">
            nothing yet. Bars, dividends, splits and events come in as files on the left.
          </span>
        )}
        {known.map(([name, one, many]) => (
          <button
            key={name}
            type="button"
            className={kind === name ? "font-semibold" : "link"}
            aria-expanded={kind === name}
            onClick={() => setKind(kind === name ? null : name)}
          >
            {plural(seen.beside[name], one, many)}
          </button>
        ))}
        {kind && (
          <a className="link ml-auto" href={`/api/data/${seen.symbol}/facts/${kind}/export.csv`}>
            CSV
          </a>
        )}
      </p>
      {kind && facts.isPending && <Skeleton className="m-3 h-24" />}
      {kind && rows.length > 0 && (
        <div className="max-h-60 overflow-y-auto border-t">
          <table className="plain" aria-label={KINDS.find(([name]) => name === kind)?.[2]}>
            <thead className="sticky top-0 bg-surface">
              <tr>
                {columns.map((name) => (
                  <Th key={name} className={name === "date" || name === "event" ? "" : "number"}>
                    {name}
                  </Th>
                ))}
                {single && seen.may_change && <Th className="w-20" aria-label="Take out" />}
              </tr>
            </thead>
            <tbody>
              {rows.slice(0, MOST).map((row) => (
                <tr key={`${row.date ?? row.at}${row.event ?? ""}`}>
                  {columns.map((name) => (
                    <td key={name} className={name === "date" || name === "event" ? "" : "number"}>
                      {shown(name, row[name])}
                    </td>
                  ))}
                  {single && seen.may_change && (
                    <td>
                      <button
                        type="button"
                        className="link"
                        onClick={() =>
                          remove.mutate(
                            { date: String(row.date), what: String(row.event ?? "") },
                            {
                              onSuccess: () => tell("Taken out; the file it came from brings it back."),
                              onError: tellError,
                            },
                          )
                        }
                      >
                        Take out
                      </button>
                    </td>
                  )}
                </tr>
              ))}
            </tbody>
          </table>
          {rows.length > MOST && (
            <p className="px-3 py-1 text-xs text-soft">The latest {MOST}; the file has them all.</p>
          )}
        </div>
      )}
    </section>
  );
}
