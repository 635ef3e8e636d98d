/** A market at an instant: curves of volatility, chains, what if. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask, type Schemas } from "./client";
import { keys } from "./keys";

export type Surface = Schemas["SurfaceOut"];
export type WhatIf = Schemas["WhatIfOut"];
export type Pulled = Omit<Schemas["WhatIfIn"], "legs" | "at">;

/** The market now is asked for again every few seconds. */
const again = (at: string | null) => (at === "now" ? 5000 : false);
const when = (at: string | null) => (at ? { at } : {});

export const useSurface = (symbol: string, at: string | null) =>
  useQuery({
    queryKey: keys.surface(symbol, at),
    queryFn: () =>
      ask(api.GET("/api/market/{symbol}/surface", { params: { path: { symbol }, query: when(at) } })),
    placeholderData: (previous, query) => (query?.queryKey[1] === symbol ? previous : undefined),
    refetchInterval: again(at),
  });

/** ``eachSide`` strikes around the money. */
export const useChain = (symbol: string, at: string | null, expiration: string | null, eachSide: number) =>
  useQuery({
    queryKey: keys.chain(symbol, at, expiration, eachSide),
    queryFn: () =>
      ask(
        api.GET("/api/market/{symbol}/chain", {
          params: {
            path: { symbol },
            query: { ...when(at), ...(expiration ? { expiration } : {}), each_side: eachSide },
          },
        }),
      ),
    placeholderData: (previous, query) => (query?.queryKey[1] === symbol ? previous : undefined),
    refetchInterval: again(at),
  });

export const useWhatIf = (
  symbol: string,
  at: string | null,
  legs: Schemas["WhatIfLegIn"][],
  pulled: Pulled,
) =>
  useQuery({
    queryKey: keys.whatIf(symbol, at, legs, pulled),
    queryFn: () =>
      ask(
        api.POST("/api/market/{symbol}/what-if", {
          params: { path: { symbol } },
          body: { ...when(at), ...pulled, legs },
        }),
      ),
    enabled: legs.length > 0,
    placeholderData: keepPreviousData,
    refetchInterval: again(at),
  });

/** Rules that pick a structure as it stands in the basket. */
export function useStrategyFromLegs() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas["FromLegs"]) => ask(api.POST("/api/strategies/from-legs", { body })),
    onSuccess: () => cache.invalidateQueries({ queryKey: keys.strategies() }),
  });
}
