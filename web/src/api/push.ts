/** The browser's one WebSocket. A push says what changed; queries fetch it again. */
import type { QueryClient } from "@tanstack/react-query";
import { useSyncExternalStore } from "react";
import type { Schemas } from "./client";
import { keys, type Pushed, type QueryKey, renewedBy, UNDER_WAY } from "./keys";
import { waits } from "./writing";

interface Message extends Pushed {
  share?: number;
  state?: string;
  doing?: string;
}

/** Quotes of watched contracts: bid, ask, sizes, IV, delta. */
export interface QuotePush {
  topic: "quotes";
  symbol: string;
  sequence: number;
  at: number;
  spot: number;
  session: string;
  quotes: Record<string, [number | null, number | null, number, number, number | null, number | null]>;
}

let watched: { symbol: string; contracts: string[] } | null = null;
let live: WebSocket | null = null;
const quoteListeners = new Set<(push: QuotePush) => void>();

/** Ask for quotes of contracts; what changed comes to ``listener`` until the returned function is called. */
export function watch(symbol: string, contracts: string[], listener: (push: QuotePush) => void): () => void {
  quoteListeners.add(listener);
  watched = { symbol, contracts };
  if (live?.readyState === WebSocket.OPEN) live.send(JSON.stringify({ watch: watched }));
  return () => {
    quoteListeners.delete(listener);
  };
}

type RunRow = Schemas["RunRow"];

let connected = true;
const listeners = new Set<() => void>();

function say(now: boolean) {
  if (now === connected) return;
  connected = now;
  for (const listener of listeners) listener();
}

/** States of orders as pushed last: a push may come before the answer to the request that made it. */
const states = new Map<number, string>();

export function pushedState(order: number): string | undefined {
  return states.get(order);
}

let heard = Date.now();

/** When something was last heard from the server, epoch milliseconds. */
export function lastHeard(): number {
  return heard;
}

/** Whether pushes arrive; false while the connection is being tried again. */
export function useConnected(): boolean {
  return useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => connected,
  );
}

/**
 * Asks again for everything under a key. A first fetch that is under way is dropped before: it may have
 * read what was there before the change, and invalidating alone would take its answer for the new one.
 */
export async function renew(cache: QueryClient, queryKey: QueryKey) {
  await cache.cancelQueries({ queryKey, predicate: (query) => query.state.data === undefined });
  await cache.invalidateQueries({ queryKey });
}

function refresh(cache: QueryClient, message: Message) {
  if (message.topic === "progress") {
    const step = (run: RunRow): RunRow =>
      run.id === message.id
        ? {
            ...run,
            status: "running",
            progress: message.share ?? run.progress,
            doing: message.doing ?? run.doing,
          }
        : run;
    cache.setQueriesData<RunRow[]>({ queryKey: keys.runs(message.strategy) }, (old) => old?.map(step));
    cache.setQueriesData<RunRow[]>({ queryKey: keys.activeRuns() }, (old) => old?.map(step));
    return;
  }
  if (message.topic === "strategy" && waits(message.id)) return;
  if (message.topic === "intake" && message.share !== undefined) {
    const { share, doing } = message;
    cache.setQueriesData<Schemas["IntakeOut"][]>({ queryKey: keys.intakes() }, (old) =>
      old?.map((row) =>
        row.id === message.id ? { ...row, status: "running", share, doing: doing ?? row.doing } : row,
      ),
    );
    return;
  }
  if (message.id !== undefined && message.state) states.set(message.id, message.state);
  if (message.topic === "order" && message.state) {
    const { id, state } = message;
    cache.setQueriesData<Schemas["DeskOut"]>(
      { queryKey: keys.desk(message.account) },
      (old) =>
        old && { ...old, orders: old.orders.map((order) => (order.id === id ? { ...order, state } : order)) },
    );
  }
  for (const key of renewedBy[message.topic]?.(message) ?? []) renew(cache, key);
}

/** Connects and stays connected; returns what ends it. */
export function listen(cache: QueryClient): () => void {
  let socket: WebSocket | null = null;
  let again: ReturnType<typeof setTimeout> | undefined;
  let wait = 500;
  let ended = false;
  let lost = false;

  function open() {
    socket = new WebSocket(
      `${window.location.protocol === "https:" ? "wss" : "ws"}://${window.location.host}/ws`,
    );
    socket.onmessage = (event) => {
      heard = Date.now();
      const message = JSON.parse(event.data) as Message;
      if (message.topic === "quotes") {
        for (const listener of quoteListeners) listener(message as unknown as QuotePush);
        return;
      }
      if (message.topic === "ready") {
        wait = 500;
        say(true);
        live = socket;
        if (watched) socket?.send(JSON.stringify({ watch: watched }));
        // what was said before this socket was there is asked for
        for (const key of lost ? [[]] : UNDER_WAY) renew(cache, key);
        lost = false;
        return;
      }
      refresh(cache, message);
    };
    socket.onclose = () => {
      if (ended) return;
      lost = true;
      say(false);
      again = setTimeout(open, wait);
      wait = Math.min(wait * 2, 5000);
    };
  }

  open();
  return () => {
    ended = true;
    clearTimeout(again);
    socket?.close();
    say(true);
  };
}
