/** The browser's one WebSocket. A push says what changed; queries fetch it again. */
import type { QueryClient } from "@tanstack/react-query";
import { useSyncExternalStore } from "react";
import type { Schemas } from "./client";

interface Message {
  topic: "ready" | "everything" | "strategy" | "run" | "progress";
  id?: number;
  strategy?: number;
  share?: number;
}

/** First parts of the keys of queries that a run changes. */
export const RUN_KEYS = ["runs", "run", "active-runs", "strategies", "strategy"];

type RunRow = Schemas["RunRow"];

let connected = true;
const listeners = new Set<() => void>();

function say(now: boolean) {
  if (now === connected) return;
  connected = now;
  for (const listener of listeners) listener();
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
export async function renew(cache: QueryClient, ...queryKey: unknown[]) {
  await cache.cancelQueries({ queryKey, predicate: (query) => query.state.data === undefined });
  await cache.invalidateQueries({ queryKey });
}

function refresh(cache: QueryClient, message: Message) {
  if (message.topic === "progress") {
    const step = (run: RunRow): RunRow =>
      run.id === message.id ? { ...run, status: "running", progress: message.share ?? run.progress } : run;
    cache.setQueriesData<RunRow[]>({ queryKey: ["runs", message.strategy] }, (old) => old?.map(step));
    cache.setQueriesData<RunRow[]>({ queryKey: ["active-runs"] }, (old) => old?.map(step));
    return;
  }
  if (message.topic === "run") {
    renew(cache, "runs", message.strategy);
    renew(cache, "run", message.id);
    renew(cache, "active-runs");
    renew(cache, "strategies");
    renew(cache, "strategy", message.strategy);
  } else if (message.topic === "strategy") {
    renew(cache, "strategies");
    renew(cache, "strategy", message.id);
  } else if (message.topic === "everything") {
    renew(cache);
  }
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
      const message = JSON.parse(event.data) as Message;
      if (message.topic === "ready") {
        wait = 500;
        say(true);
        // what was said before this socket was there is asked for
        if (lost) renew(cache);
        else for (const key of ["runs", "run", "active-runs"]) renew(cache, key);
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
