/** The desk: accounts, orders, positions, deployments, the market's clock. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, ask, type Schemas } from "./client";
import { keys, writes } from "./keys";
import { pushedState, type QuotePush, renew, watch } from "./push";

export type Desk = Schemas["DeskOut"];
export type Order = Schemas["OrderOut"];
export type Holding = Schemas["HoldingOut"];
export type Deployment = Schemas["DeploymentOut"];
export type Clock = Schemas["ClockOut"];
export type TicketView = Schemas["TicketOut"];

/** While a market moves, what depends on its prices is asked for again this often. */
const LOOK_AGAIN = 1000;
/** While it stands, only a push that was lost could have changed anything. */
export const STANDING = 30_000;
const again = (moves: boolean, often = LOOK_AGAIN) => (moves ? often : STANDING);

export const useAccounts = () =>
  useQuery({ queryKey: keys.accounts(), queryFn: () => ask(api.GET("/api/accounts")) });

export const useDesk = (account: number | undefined) =>
  useQuery({
    queryKey: keys.desk(account),
    queryFn: () =>
      ask(api.GET("/api/accounts/{account_id}/desk", { params: { path: { account_id: account! } } })),
    enabled: account !== undefined,
    refetchInterval: (query) => again(query.state.data?.clock.running ?? false),
  });

export const usePosition = (id: number | null, moves: boolean) =>
  useQuery({
    queryKey: keys.position(id),
    queryFn: () => ask(api.GET("/api/positions/{holding_id}", { params: { path: { holding_id: id! } } })),
    enabled: id !== null,
    refetchInterval: again(moves, 2 * LOOK_AGAIN),
    placeholderData: (previous, query) => (query?.queryKey[1] === id ? previous : undefined),
  });

export const usePath = (symbol: string | undefined, moves: boolean) =>
  useQuery({
    queryKey: keys.path(symbol),
    queryFn: () => ask(api.GET("/api/market/{symbol}/live/path", { params: { path: { symbol: symbol! } } })),
    enabled: symbol !== undefined,
    refetchInterval: again(moves, 5 * LOOK_AGAIN),
  });

export const useDeployments = (strategy: number) =>
  useQuery({
    queryKey: keys.deployments(strategy),
    queryFn: () =>
      ask(
        api.GET("/api/strategies/{strategy_id}/deployments", { params: { path: { strategy_id: strategy } } }),
      ),
  });

export const useChecklist = (strategy: number, account: number | undefined, beside: number[]) =>
  useQuery({
    queryKey: keys.checklist(strategy, account, ...beside),
    queryFn: () =>
      ask(
        api.GET("/api/strategies/{strategy_id}/checklist", {
          params: { path: { strategy_id: strategy }, query: { account: account!, beside } },
        }),
      ),
    enabled: account !== undefined,
    staleTime: 0,
  });

/** What a deployment's rules say of its open trades on the last recorded snapshot. */
export const useOutlook = (deployment: number) =>
  useQuery({
    queryKey: keys.outlook(deployment),
    queryFn: () =>
      ask(
        api.GET("/api/deployments/{deployment_id}/outlook", {
          params: { path: { deployment_id: deployment } },
        }),
      ),
  });

export const useCompare = (deployment: number, session: string | null) =>
  useQuery({
    queryKey: keys.compare(deployment, session),
    queryFn: () =>
      ask(
        api.GET("/api/deployments/{deployment_id}/compare/{session}", {
          params: { path: { deployment_id: deployment, session: session! } },
        }),
      ),
    enabled: session !== null,
  });

/** The underlying itself at the prices that were pushed. */
function dealt(unit: Schemas["UnitOut"], now: QuotePush["quotes"][string] | undefined): Schemas["UnitOut"] {
  return now ? { ...unit, bid: now[0] ?? unit.bid, ask: now[1] ?? unit.ask } : unit;
}

/** The chain now; prices follow the market through the socket. */
export function useLiveChain(
  symbol: string | undefined,
  expiration: string | null,
  account: number,
  moves: boolean,
) {
  const query = useQuery({
    queryKey: keys.live(symbol, expiration, account),
    queryFn: () =>
      ask(
        api.GET("/api/market/{symbol}/live", {
          params: {
            path: { symbol: symbol! },
            query: { ...(expiration ? { expiration } : {}), account },
          },
        }),
      ),
    enabled: symbol !== undefined,
    placeholderData: keepPreviousData,
    refetchInterval: again(moves, 20 * LOOK_AGAIN),
  });
  const [pushed, setPushed] = useState<QuotePush | null>(null);
  const unit = query.data?.unit?.contract;
  const codes = query.data?.rows
    .flatMap((row) => [row.call.contract, row.put.contract])
    .concat(unit ?? [])
    .join(" ");
  useEffect(() => {
    if (!codes || !symbol) return;
    setPushed(null);
    return watch(symbol, codes.split(" "), (push) => {
      if (push.symbol !== symbol) return;
      setPushed((old) => (old ? { ...push, quotes: { ...old.quotes, ...push.quotes } } : push));
    });
  }, [codes, symbol]);
  const chain = query.data;
  if (!chain || !pushed || pushed.session !== chain.session) return { ...query, chain };
  const side = (old: Schemas["SideOut"]): Schemas["SideOut"] => {
    const now = pushed.quotes[old.contract];
    return now ? { ...old, bid: now[0], ask: now[1], iv: now[4], delta: now[5] } : old;
  };
  return {
    ...query,
    chain: {
      ...chain,
      at: pushed.at,
      spot: pushed.spot,
      rows: chain.rows.map((row) => ({ ...row, call: side(row.call), put: side(row.put) })),
      unit: chain.unit && dealt(chain.unit, pushed.quotes[chain.unit.contract]),
    },
  };
}

export const useTicket = (account: number | undefined, ticket: Schemas["TicketIn"] | null, moves: boolean) =>
  useQuery({
    queryKey: keys.ticket(account, ticket),
    queryFn: () =>
      ask(
        api.POST("/api/accounts/{account_id}/ticket", {
          params: { path: { account_id: account! } },
          body: ticket!,
        }),
      ),
    enabled: account !== undefined && ticket !== null && ticket.legs.length > 0,
    placeholderData: keepPreviousData,
    refetchInterval: again(moves),
    gcTime: 10_000,
  });

/** A write at the desk; whatever it changed is asked for again. */
function useDeskWrite<T, R>(write: (given: T) => Promise<R>) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: write,
    onSettled: () => {
      for (const key of writes.desk) renew(cache, key);
    },
  });
}

/** Sends a ticket; the order stands in the list as soon as it is answered, what it becomes is pushed. */
export function usePlace(account: number) {
  const cache = useQueryClient();
  return useDeskWrite(async (body: Schemas["TicketIn"]) => {
    const order = await ask(
      api.POST("/api/accounts/{account_id}/orders", { params: { path: { account_id: account } }, body }),
    );
    const now = { ...order, state: pushedState(order.id) ?? order.state };
    // an answer that is under way may have been read before the order was there
    await cache.cancelQueries({ queryKey: keys.desk(account) });
    cache.setQueryData<Desk>(
      keys.desk(account),
      (old) => old && { ...old, orders: [now, ...old.orders.filter((row) => row.id !== order.id)] },
    );
    return order;
  });
}

export const useCancelOrder = () =>
  useDeskWrite((id: number) =>
    ask(api.POST("/api/orders/{order_id}/cancel", { params: { path: { order_id: id } } })),
  );

export const useChangeOrder = () =>
  useDeskWrite(({ id, limit }: { id: number; limit: string }) =>
    ask(api.POST("/api/orders/{order_id}/price", { params: { path: { order_id: id } }, body: { limit } })),
  );

export const useProtect = () =>
  useDeskWrite(({ id, body }: { id: number; body: Schemas["ProtectionIn"] }) =>
    ask(api.PUT("/api/positions/{holding_id}/protection", { params: { path: { holding_id: id } }, body })),
  );

export const useClosePosition = () =>
  useDeskWrite(({ id, lots }: { id: number; lots?: string }) =>
    ask(
      api.POST("/api/positions/{holding_id}/close", {
        params: { path: { holding_id: id } },
        body: { lots: lots ?? null, type: "market", limit: null, client_id: crypto.randomUUID() },
      }),
    ),
  );

export const useHalt = () =>
  useDeskWrite((body: { flatten: boolean }) =>
    ask(api.POST("/api/halt", { body: { ...body, account: null, because: "by hand" } })),
  );

export const useOpenAccount = () =>
  useDeskWrite((body: Schemas["NewAccount"]) => ask(api.POST("/api/accounts", { body })));

export const useSetLimits = (account: number) =>
  useDeskWrite((body: Schemas["LimitsIn"]) =>
    ask(
      api.PUT("/api/accounts/{account_id}/limits", {
        params: { path: { account_id: account } },
        body,
      }),
    ),
  );

export const useTakeOver = () =>
  useDeskWrite((account: number) =>
    ask(api.POST("/api/accounts/{account_id}/take-over", { params: { path: { account_id: account } } })),
  );

export const usePromote = (strategy: number) =>
  useDeskWrite((body: Schemas["PromoteIn"]) =>
    ask(
      api.POST("/api/strategies/{strategy_id}/promote", {
        params: { path: { strategy_id: strategy } },
        body,
      }),
    ),
  );

export const useDeploymentAction = () =>
  useDeskWrite(({ id, action }: { id: number; action: "arm" | "disarm" | "end" }) => {
    const params = { path: { deployment_id: id } };
    if (action === "arm") return ask(api.POST("/api/deployments/{deployment_id}/arm", { params }));
    if (action === "disarm") return ask(api.POST("/api/deployments/{deployment_id}/disarm", { params }));
    return ask(api.POST("/api/deployments/{deployment_id}/end", { params }));
  });

export type ClockAction =
  | { kind: "run"; rate?: number }
  | { kind: "pause" }
  | { kind: "jump"; to: string }
  | { kind: "next" }
  | { kind: "quiet"; quiet: boolean };

export const useClockAction = (symbol: string) =>
  useDeskWrite((action: ClockAction) => {
    const params = { path: { symbol } };
    if (action.kind === "run")
      return ask(api.POST("/api/market/{symbol}/clock/run", { params, body: { rate: action.rate ?? null } }));
    if (action.kind === "pause") return ask(api.POST("/api/market/{symbol}/clock/pause", { params }));
    if (action.kind === "jump")
      return ask(api.POST("/api/market/{symbol}/clock/jump", { params, body: { to: action.to } }));
    if (action.kind === "quiet")
      return ask(api.POST("/api/market/{symbol}/clock/quiet", { params, body: { quiet: action.quiet } }));
    return ask(api.POST("/api/market/{symbol}/clock/next-session", { params }));
  });

export const useConfirm = () =>
  useMutation({
    mutationFn: (password: string) => ask(api.POST("/api/confirm", { body: { password } })),
  });

export const useFaults = (enabled: boolean) =>
  useQuery({
    queryKey: keys.faults(),
    queryFn: () => ask(api.GET("/api/practice-broker/faults")),
    enabled,
    refetchInterval: 2 * LOOK_AGAIN,
  });

export const usePlayFault = () =>
  useDeskWrite((kind: string) => ask(api.POST("/api/practice-broker/faults", { body: { kind, count: 1 } })));
