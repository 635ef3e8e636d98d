/** Server state: every read is a query, every write a mutation that refreshes what it changed. */
import { QueryClient, queryOptions, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask, Refusal, type Schemas } from "./client";
import { keys, type QueryKey, writes } from "./keys";
import { renew } from "./push";
import { begin, end } from "./writing";

export const client = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 20_000,
      refetchOnWindowFocus: false,
      // no answer, or one without a database
      retry: (count, error) => error instanceof Refusal && [0, 503].includes(error.status) && count < 4,
    },
  },
});

export type Document = Record<string, unknown>;

export const useMe = () =>
  useQuery({
    queryKey: keys.me(),
    queryFn: () => ask(api.GET("/api/me")),
    staleTime: Number.POSITIVE_INFINITY,
    refetchInterval: (query) => (query.state.status === "error" ? 5000 : false),
  });

/** Gives the definition of a run's figure by its id. */
export function useFigureWords(): (id: string) => string {
  const found = useQuery({
    queryKey: keys.figures(),
    queryFn: () => ask(api.GET("/api/figures")),
    staleTime: Number.POSITIVE_INFINITY,
  });
  return (id) => found.data?.find((figure) => figure.id === id)?.explains ?? "";
}

export const useDeclarations = () =>
  useQuery({
    queryKey: keys.declarations(),
    queryFn: () => ask(api.GET("/api/declarations")),
    staleTime: Number.POSITIVE_INFINITY,
  });

export const useStarters = () =>
  useQuery({
    queryKey: keys.starters(),
    queryFn: () => ask(api.GET("/api/starters")),
    staleTime: Number.POSITIVE_INFINITY,
  });

export const useUnderlyings = () =>
  useQuery({ queryKey: keys.underlyings(), queryFn: () => ask(api.GET("/api/market/underlyings")) });

/** What an underlying is quoted in and when; empty until it is known. */
export function useTerms(symbol: string): { currency: string; zone: string; first: string; last: string } {
  const row = useUnderlyings().data?.find((item) => item.symbol === symbol);
  return {
    currency: row?.currency ?? "",
    zone: row?.zone ?? "UTC",
    first: row?.first ?? "",
    last: row?.last ?? "",
  };
}

export const useStrategies = (enabled = true) =>
  useQuery({ queryKey: keys.strategies(), queryFn: () => ask(api.GET("/api/strategies")), enabled });

export const useStrategy = (id: number) =>
  useQuery({
    queryKey: keys.strategy(id),
    queryFn: () => ask(api.GET("/api/strategies/{strategy_id}", { params: { path: { strategy_id: id } } })),
  });

/** Sentences that may be added to a revision, asked for while the list of them is open. */
export const useAdditions = (id: number, revision: number, enabled: boolean) =>
  useQuery({
    queryKey: keys.strategy(id, "additions", revision),
    queryFn: () =>
      ask(api.GET("/api/strategies/{strategy_id}/additions", { params: { path: { strategy_id: id } } })),
    enabled,
  });

export const useRevisions = (id: number) =>
  useQuery({
    queryKey: keys.strategy(id, "revisions"),
    queryFn: () =>
      ask(api.GET("/api/strategies/{strategy_id}/revisions", { params: { path: { strategy_id: id } } })),
  });

/** Sentences in which a revision differs from the latest. */
export const useDifferences = (id: number, revision: number, latest: number) =>
  useQuery({
    queryKey: keys.strategy(id, "differences", revision, latest),
    queryFn: () =>
      ask(
        api.GET("/api/strategies/{strategy_id}/revisions/{number}/differences", {
          params: { path: { strategy_id: id, number: revision } },
        }),
      ),
    staleTime: Number.POSITIVE_INFINITY,
  });

export function useDescribeRevision(id: number) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ number, note }: { number: number; note: string }) =>
      ask(
        api.PATCH("/api/strategies/{strategy_id}/revisions/{number}", {
          params: { path: { strategy_id: id, number } },
          body: { note },
        }),
      ),
    onSuccess: () => cache.invalidateQueries({ queryKey: keys.strategy(id, "revisions") }),
  });
}

export const useText = (id: number, revision: number) =>
  useQuery({
    queryKey: keys.strategy(id, "text", revision),
    queryFn: () =>
      ask(api.GET("/api/strategies/{strategy_id}/text", { params: { path: { strategy_id: id } } })),
    staleTime: Number.POSITIVE_INFINITY,
  });

/** What a preview is asked with: its answer is kept by revision. */
export const previewOf = (id: number, revision: number, at: string | null, entry: string | null) =>
  queryOptions({
    queryKey: keys.preview(id, revision, at, entry),
    queryFn: async () => {
      const began = performance.now();
      const found = await ask(
        api.GET("/api/strategies/{strategy_id}/preview", {
          params: { path: { strategy_id: id }, query: { ...(at && { at }), ...(entry && { entry }) } },
        }),
      );
      return { ...found, took: performance.now() - began };
    },
  });

/** What a revision decides at every look; asked for while it is the latest only. */
export const stripOf = (id: number, revision: number) =>
  queryOptions({
    queryKey: keys.strip(id, revision),
    queryFn: ({ signal }) =>
      ask(api.GET("/api/strategies/{strategy_id}/strip", { params: { path: { strategy_id: id } }, signal })),
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });

export const useRuns = (id: number, enabled = true) =>
  useQuery({
    enabled,
    queryKey: keys.runs(id),
    queryFn: () =>
      ask(api.GET("/api/strategies/{strategy_id}/runs", { params: { path: { strategy_id: id } } })),
  });

export const useActiveRuns = () =>
  useQuery({ queryKey: keys.activeRuns(), queryFn: () => ask(api.GET("/api/runs")) });

const runWithout = (id: number | undefined, without: "decisions" | "trades") => ({
  queryKey: keys.run(id, without),
  queryFn: () =>
    ask(api.GET("/api/runs/{run_id}", { params: { path: { run_id: id! }, query: { without } } })),
  enabled: id !== undefined,
});

/** A run with its trades. */
export const useRun = (id: number | undefined) =>
  useQuery<Omit<Schemas["RunOut"], "decisions">>(runWithout(id, "decisions"));

/** A run with its decisions instead of its trades. */
export const useDecided = (id: number | undefined) =>
  useQuery<Omit<Schemas["RunOut"], "trades">>(runWithout(id, "trades"));

export const useTrade = (run: number, number: number, at: number | null, enabled = true) =>
  useQuery({
    enabled,
    queryKey: keys.trade(run, number, at),
    queryFn: () =>
      ask(
        api.GET("/api/runs/{run_id}/trades/{number}", {
          params: { path: { run_id: run, number }, query: at === null ? {} : { at } },
        }),
      ),
    placeholderData: (previous, query) =>
      query?.queryKey[1] === run && query?.queryKey[2] === number ? previous : undefined,
    staleTime: Number.POSITIVE_INFINITY,
  });

export const useReplays = (strategy: number) =>
  useQuery({
    queryKey: keys.replays(strategy),
    queryFn: () =>
      ask(api.GET("/api/strategies/{strategy_id}/replays", { params: { path: { strategy_id: strategy } } })),
  });

/** Milliseconds until what depends on a written strategy is asked for again: what the rules would do now comes first. */
const SOON = 400;

/** A mutation that puts a whole strategy into the cache and marks what depends on it as old. ``id``: of one that is
 *  there already. */
function useStrategyWrite<T>(write: (given: T) => Promise<Schemas["StrategyOut"]>, id?: number) {
  const cache = useQueryClient();
  const again = (...old: QueryKey[]) => {
    for (const key of old) renew(cache, key);
  };
  return useMutation({
    mutationFn: write,
    onMutate: () => {
      if (id !== undefined) begin(id);
    },
    onSuccess: (strategy) => {
      cache.setQueryData(keys.strategy(strategy.id), strategy);
      const old = [
        keys.strategies(),
        keys.strategy(strategy.id, "revisions"),
        keys.runs(strategy.id),
        keys.run(),
      ];
      setTimeout(() => again(...old), SOON);
    },
    onSettled: (_, error) => {
      const behind = error instanceof Refusal && error.status === 409;
      if (id !== undefined && end(id, behind)) again(keys.strategies(), keys.strategy(id));
    },
  });
}

/** ``shown``: at which instant and entry the page shows what the rules would do; that comes with the answer. */
export function useRevise(id: number) {
  const cache = useQueryClient();
  return useStrategyWrite(async ({ shown, ...change }: Schemas["Change"] & { shown?: Schemas["Looked"] }) => {
    const began = performance.now();
    const { preview, ...strategy } = await ask(
      api.PUT("/api/strategies/{strategy_id}", {
        params: { path: { strategy_id: id } },
        body: { ...change, ...(shown && { preview: shown }) },
      }),
    );
    if (shown && preview) {
      const { queryKey } = previewOf(id, strategy.revision, shown.at ?? null, shown.entry ?? null);
      cache.setQueryData(queryKey, { ...preview, took: performance.now() - began });
    }
    return strategy;
  }, id);
}

export const useGoBack = (id: number) =>
  useStrategyWrite(
    (number: number) =>
      ask(
        api.POST("/api/strategies/{strategy_id}/revisions/{number}", {
          params: { path: { strategy_id: id, number } },
        }),
      ),
    id,
  );

export const useMirrorSentence = (id: number) =>
  useStrategyWrite(
    ({ sentence, basedOn }: { sentence: string; basedOn: number }) =>
      ask(
        api.POST("/api/strategies/{strategy_id}/sentences/{sentence_id}/mirror", {
          params: { path: { strategy_id: id, sentence_id: sentence }, query: { based_on: basedOn } },
        }),
      ),
    id,
  );

export const useAddEntry = (id: number) =>
  useStrategyWrite(
    ({ entry, mirror, basedOn }: { entry: string; mirror: boolean; basedOn: number }) =>
      ask(
        api.POST("/api/strategies/{strategy_id}/entries", {
          params: { path: { strategy_id: id }, query: { like: entry, mirror, based_on: basedOn } },
        }),
      ),
    id,
  );

export const useCreateStrategy = () =>
  useStrategyWrite((body: Schemas["NewStrategy"]) => ask(api.POST("/api/strategies", { body })));

export const useDuplicate = () =>
  useStrategyWrite(({ id, mirror, revision }: { id: number; mirror: boolean; revision?: number }) =>
    ask(
      api.POST("/api/strategies/{strategy_id}/duplicate", {
        params: { path: { strategy_id: id }, query: { mirror, ...(revision && { revision }) } },
      }),
    ),
  );

export const useRestoreStrategy = () =>
  useStrategyWrite((id: number) =>
    ask(api.POST("/api/strategies/{strategy_id}/restore", { params: { path: { strategy_id: id } } })),
  );

export function useDeleteStrategy() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (id: number) =>
      ask(api.DELETE("/api/strategies/{strategy_id}", { params: { path: { strategy_id: id } } })),
    onSuccess: () => cache.invalidateQueries({ queryKey: keys.strategies() }),
  });
}

export function useRunWrite<T>(
  write: (given: T) => Promise<unknown>,
  changed: (given: T) => QueryKey[] = () => writes.run,
) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: write,
    onSuccess: (_, given) => {
      for (const key of changed(given)) renew(cache, key);
    },
  });
}

export const useAskRun = (strategy: number) =>
  useRunWrite((body: Schemas["RunRequest"]) =>
    ask(
      api.POST("/api/strategies/{strategy_id}/runs", { params: { path: { strategy_id: strategy } }, body }),
    ),
  );

interface RunAction {
  id: number;
  action: "cancel" | "go-on" | "delete" | "restore";
}

export const useRunAction = () =>
  useRunWrite(
    ({ id, action }: RunAction): Promise<unknown> => {
      const params = { path: { run_id: id } };
      if (action === "cancel") return ask(api.POST("/api/runs/{run_id}/cancel", { params }));
      if (action === "restore") return ask(api.POST("/api/runs/{run_id}/restore", { params }));
      if (action === "go-on") return ask(api.POST("/api/runs/{run_id}/go-on", { params }));
      return ask(api.DELETE("/api/runs/{run_id}", { params }));
    },
    ({ action }) => (action === "delete" || action === "restore" ? writes.deletedRun : writes.run),
  );
