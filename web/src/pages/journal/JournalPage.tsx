import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, ask } from "../../api/client";
import { useAccounts } from "../../api/desk";
import { keys } from "../../api/keys";
import { useUnderlyings } from "../../api/queries";
import { ago } from "../../ui/format";
import { Empty, ErrorNote, Skeleton } from "../../ui/parts";
import { Th } from "../../ui/Th";

const WHO = ["person", "rule", "desk", "broker", "market"];
const KEYS = ["who", "kind", "account", "deployment", "order", "words"] as const;

/** Everything that was decided and done: who or which rule, when, why, with which values. */
export function JournalPage() {
  const [query, setQuery] = useSearchParams();
  const filter = Object.fromEntries(KEYS.map((key) => [key, query.get(key)]).filter(([, value]) => value));
  const accounts = useAccounts();
  const zone = useUnderlyings().data?.[0]?.zone ?? "UTC";
  const kinds = useQuery({
    queryKey: keys.journal("kinds"),
    queryFn: () => ask(api.GET("/api/journal/kinds")),
  });
  const pages = useInfiniteQuery({
    queryKey: keys.journal(filter),
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/api/journal", {
          params: { query: { ...filter, ...(pageParam ? { before: pageParam } : {}) } as never },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (last) => (last.more ? last.rows.at(-1)?.id : undefined),
    placeholderData: keepPreviousData,
  });
  const set = (key: string, value: string) => {
    const next = new URLSearchParams(query);
    if (value) next.set(key, value);
    else next.delete(key);
    setQuery(next, { replace: true });
  };
  const rows = pages.data?.pages.flatMap((page) => page.rows) ?? [];
  const market = (at: number | null) =>
    at === null
      ? ""
      : new Date(at * 1000).toLocaleString("en-GB", {
          timeZone: zone,
          weekday: "short",
          day: "numeric",
          month: "short",
          hour: "2-digit",
          minute: "2-digit",
          second: "2-digit",
        });
  const named = (id: number | null) => accounts.data?.find((row) => row.id === id)?.name ?? "";
  return (
    <div className="px-4.5 py-3">
      <header className="mb-3 flex flex-wrap items-center gap-3">
        <h1 className="text-figure font-semibold">Journal</h1>
        <select
          className="field"
          aria-label="Who"
          value={query.get("who") ?? ""}
          onChange={(e) => set("who", e.target.value)}
        >
          <option value="">anyone</option>
          {WHO.map((who) => (
            <option key={who}>{who}</option>
          ))}
        </select>
        <select
          className="field"
          aria-label="Kind"
          value={query.get("kind") ?? ""}
          onChange={(e) => set("kind", e.target.value)}
        >
          <option value="">anything</option>
          {kinds.data?.map((kind) => (
            <option key={kind}>{kind}</option>
          ))}
        </select>
        <select
          className="field"
          aria-label="Account"
          value={query.get("account") ?? ""}
          onChange={(e) => set("account", e.target.value)}
        >
          <option value="">all accounts</option>
          {accounts.data?.map((row) => (
            <option key={row.id} value={row.id}>
              {row.name}
            </option>
          ))}
        </select>
        <input
          className="field w-52"
          type="search"
          aria-label="Words"
          placeholder="words"
          value={query.get("words") ?? ""}
          onChange={(e) => set("words", e.target.value)}
        />
        {query.get("deployment") && (
          <button type="button" className="pill" onClick={() => set("deployment", "")}>
            one deployment ×
          </button>
        )}
        <a className="link ml-auto" href={`/api/journal.csv?${query}`}>
          Export as CSV
        </a>
      </header>
      <ErrorNote error={pages.error} onRetry={() => pages.refetch()} />
      {pages.isPending && <Skeleton className="h-80" />}
      {pages.data && rows.length === 0 && (
        <div className="card">
          <Empty title="Nothing here.">
            Orders, fills, decisions of rules, refusals and halts are kept here as they happen.
          </Empty>
        </div>
      )}
      {rows.length > 0 && (
        <section className="card overflow-x-auto">
          <table className="plain" aria-label="Journal">
            <thead>
              <tr>
                <Th>Market time</Th>
                <Th>Kept at</Th>
                <Th>Who</Th>
                <Th>What</Th>
                <Th>Account</Th>
                <Th>Event</Th>
              </tr>
            </thead>
            <tbody>
              {rows.map((row) => (
                <tr key={row.id}>
                  <td className="whitespace-nowrap">{market(row.market_at)}</td>
                  <td className="whitespace-nowrap text-soft">{ago(row.at)}</td>
                  <td>{row.who}</td>
                  <td
                    className={`whitespace-nowrap ${row.kind === "refused" || row.kind === "quarantine" ? "text-loss" : ""}`}
                  >
                    {row.kind}
                  </td>
                  <td className="whitespace-nowrap text-soft">{named(row.account)}</td>
                  <td>
                    <details>
                      <summary className="cursor-pointer list-none font-serif text-lead">{row.text}</summary>
                      <p className="pb-1 text-xs text-soft">
                        {row.rule && `sentence ${row.rule} · `}
                        {row.order && `order ${row.order} · `}
                        {Object.entries(row.values)
                          .map(
                            ([key, value]) =>
                              `${key} ${typeof value === "object" ? JSON.stringify(value) : value}`,
                          )
                          .join(" · ")}{" "}
                        {row.strategy && (
                          <Link className="link" to={`/strategies/${row.strategy}/paper`}>
                            its strategy
                          </Link>
                        )}
                      </p>
                    </details>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      )}
      {pages.hasNextPage && (
        <button
          type="button"
          className="button mt-3"
          disabled={pages.isFetchingNextPage}
          onClick={() => pages.fetchNextPage()}
        >
          Show earlier
        </button>
      )}
    </div>
  );
}
