/** Sweeps: asked for, watched, their variants opened as runs. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask, type Schemas } from "./client";
import { keys, type QueryKey, writes } from "./keys";
import { renew } from "./push";

const strategyAt = (id: number) => ({ params: { path: { strategy_id: id } } });
const sweepAt = (id: number) => ({ params: { path: { sweep_id: id } } });

/** What of a strategy can be varied; ``revision``: of which sheet. */
export const useDials = (strategy: number, revision: number) =>
  useQuery({
    queryKey: keys.dials(strategy, revision),
    queryFn: () => ask(api.GET("/api/strategies/{strategy_id}/dials", strategyAt(strategy))),
    staleTime: Number.POSITIVE_INFINITY,
  });

export const useSweeps = (strategy: number) =>
  useQuery({
    queryKey: keys.sweeps(strategy),
    queryFn: () => ask(api.GET("/api/strategies/{strategy_id}/sweeps", strategyAt(strategy))),
  });

export const useSweep = (id: number | undefined) =>
  useQuery({
    queryKey: keys.sweep(id),
    queryFn: () => ask(api.GET("/api/sweeps/{sweep_id}", sweepAt(id!))),
    enabled: id !== undefined,
  });

/** Its variants chosen on ``train`` sessions and judged on the ``test`` that follow. */
export const useWalk = (id: number, train: number, test: number, anchored: boolean) =>
  useQuery({
    queryKey: keys.walk(id, train, test, anchored),
    queryFn: () =>
      ask(
        api.GET("/api/sweeps/{sweep_id}/walk", {
          params: { path: { sweep_id: id }, query: { train, test, anchored } },
        }),
      ),
    placeholderData: keepPreviousData,
  });

function useSweepWrite<T, R>(write: (given: T) => Promise<R>, changed: QueryKey[] = writes.sweep) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: write,
    onSuccess: () => {
      for (const key of changed) renew(cache, key);
    },
  });
}

export const useAskSweep = (strategy: number) =>
  useSweepWrite((body: Schemas["SweepRequest"]) =>
    ask(api.POST("/api/strategies/{strategy_id}/sweeps", { ...strategyAt(strategy), body })),
  );

export const useSweepAction = () =>
  useSweepWrite(
    ({ id, action }: { id: number; action: "cancel" | "go-on" | "delete" | "restore" }): Promise<unknown> => {
      if (action === "cancel") return ask(api.POST("/api/sweeps/{sweep_id}/cancel", sweepAt(id)));
      if (action === "go-on") return ask(api.POST("/api/sweeps/{sweep_id}/go-on", sweepAt(id)));
      if (action === "restore") return ask(api.POST("/api/sweeps/{sweep_id}/restore", sweepAt(id)));
      return ask(api.DELETE("/api/sweeps/{sweep_id}", sweepAt(id)));
    },
  );

/** A variant as a run. */
export const useOpenCell = () =>
  useSweepWrite(
    ({ sweep, place }: { sweep: number; place: number }) =>
      ask(
        api.POST("/api/sweeps/{sweep_id}/cells/{place}/run", {
          params: { path: { sweep_id: sweep, place } },
        }),
      ),
    writes.run,
  );

/** Sessions kept out of backtests and sweeps from a day on, or no longer. */
export const useHoldBack = (strategy: number) =>
  useSweepWrite(
    (since: string | null) =>
      ask(api.PUT("/api/strategies/{strategy_id}/held-back", { ...strategyAt(strategy), body: { since } })),
    [keys.strategy(strategy)],
  );
