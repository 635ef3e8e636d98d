/** A replay session: one scene for its clock's instant; every action answers with the next scene. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask, type Schemas } from "./client";
import { keys } from "./keys";

export type Scene = Schemas["SceneOut"];

interface Look {
  expiration: string | null;
  payoffAt: number | null;
  /** Of which underlying chain and payoff are shown; none: the session's usual one. */
  symbol: string | null;
}

function query(look: Look) {
  return {
    ...(look.expiration ? { expiration: look.expiration } : {}),
    ...(look.payoffAt === null ? {} : { payoff_at: look.payoffAt }),
    ...(look.symbol ? { symbol: look.symbol } : {}),
  };
}

export function useScene(id: number, look: Look) {
  return useQuery({
    queryKey: keys.scene(id, look.expiration, look.payoffAt, look.symbol),
    queryFn: () =>
      ask(api.GET("/api/replays/{session_id}", { params: { path: { session_id: id }, query: query(look) } })),
    placeholderData: keepPreviousData,
  });
}

export type Action =
  | { kind: "move"; to: string }
  | { kind: "trade"; orders: Schemas["OrderIn"][] }
  | { kind: "close" }
  | { kind: "acts"; acts: string }
  | { kind: "undo" };

export function useReplayAction(id: number, look: Look) {
  const cache = useQueryClient();
  return useMutation({
    // one after another, in the order in which they were asked for
    scope: { id: `replay-${id}` },
    mutationFn: (action: Action): Promise<Scene> => {
      const path = { session_id: id };
      // a date on which the payoff is looked at does not outlive a change of the position
      const kept = query({ ...look, payoffAt: null });
      if (action.kind === "move")
        return ask(
          api.POST("/api/replays/{session_id}/move", {
            params: { path, query: query(look) },
            body: { to: action.to },
          }),
        );
      if (action.kind === "trade")
        return ask(
          api.POST("/api/replays/{session_id}/orders", {
            params: { path, query: kept },
            body: { orders: action.orders },
          }),
        );
      if (action.kind === "acts")
        return ask(
          api.PUT("/api/replays/{session_id}/acts", {
            params: { path, query: kept },
            body: { acts: action.acts },
          }),
        );
      if (action.kind === "close")
        return ask(api.POST("/api/replays/{session_id}/close", { params: { path, query: kept } }));
      // what is the latest when its turn comes, also of two asked for at once
      const latest = cache.getQueriesData<Scene>({ queryKey: keys.scene(id) });
      const undoes = Math.max(...latest.map(([, scene]) => scene?.undoes ?? 0));
      return ask(
        api.POST("/api/replays/{session_id}/undo", { params: { path, query: kept }, body: { undoes } }),
      );
    },
    onSuccess: (scene, action) => {
      const payoffAt = action.kind === "move" ? look.payoffAt : null;
      cache.removeQueries({ queryKey: keys.scene(id), predicate: (q) => q.getObserversCount() === 0 });
      cache.setQueryData(keys.scene(id, look.expiration, payoffAt, look.symbol), scene);
      if (scene.strategy) cache.invalidateQueries({ queryKey: keys.replays(scene.strategy) });
    },
  });
}

/** Writes one after the other; `version` is the one that the page last read or wrote itself. */
export function useDescribe(id: number, version: { current: string }) {
  const cache = useQueryClient();
  return useMutation({
    scope: { id: `replay ${id}` },
    mutationFn: (body: { name: string; note: string }) =>
      ask(
        api.PATCH("/api/replays/{session_id}", {
          params: { path: { session_id: id } },
          body: { ...body, based_on: version.current },
        }),
      ),
    onSuccess: (row) => {
      version.current = row.version;
      cache.setQueriesData<Scene>({ queryKey: keys.scene(id) }, (old) => (old ? { ...old, ...row } : old));
      if (row.strategy) cache.invalidateQueries({ queryKey: keys.replays(row.strategy) });
      cache.invalidateQueries({ queryKey: keys.strategies() });
    },
  });
}

export function useStartReplay() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas["NewReplay"]) => ask(api.POST("/api/replays", { body })),
    onSuccess: (row) => {
      if (row.strategy) {
        cache.invalidateQueries({ queryKey: keys.replays(row.strategy) });
        cache.invalidateQueries({ queryKey: keys.strategy(row.strategy) });
      }
      cache.invalidateQueries({ queryKey: keys.strategies() });
    },
  });
}

export function useRemoveReplay(strategy: number) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ id, restore }: { id: number; restore: boolean }): Promise<unknown> =>
      restore
        ? ask(api.POST("/api/replays/{session_id}/restore", { params: { path: { session_id: id } } }))
        : ask(api.DELETE("/api/replays/{session_id}", { params: { path: { session_id: id } } })),
    onSuccess: () => {
      cache.invalidateQueries({ queryKey: keys.replays(strategy) });
      cache.invalidateQueries({ queryKey: keys.strategy(strategy) });
    },
  });
}

interface NewReplayWith {
  strategy: number;
  at: string;
  cash: number;
  legs: { contract: string; contracts: number }[];
}

/** A session at an instant with legs dealt in there; gives its number. */
export const useStartReplayWith = () =>
  useMutation({
    mutationFn: async ({ strategy, at, cash, legs }: NewReplayWith) => {
      const session = await ask(api.POST("/api/replays", { body: { strategy, at, cash } }));
      await ask(
        api.POST("/api/replays/{session_id}/orders", {
          params: { path: { session_id: session.id } },
          body: { orders: legs },
        }),
      );
      return session.id;
    },
  });
