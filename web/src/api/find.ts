/** What Ctrl K asks for beside what pages have already. */
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { readDate } from "../ui/read";
import { api, ask } from "./client";
import { keys } from "./keys";

/** A trade's number, as in "trade 57", or the day it was entered on. */
function tradeOf(text: string): { number?: number; on?: string } | null {
  const number = /^(?:trade\s+)?#?(\d{1,6})$/i.exec(text.trim());
  if (number) return { number: Number(number[1]) };
  const on = /[a-z-]/i.test(text) ? readDate(text.trim().replace(/^trade\s+/i, "")) : null;
  return on ? { on } : null;
}

export function useFoundTrades(text: string) {
  const asked = tradeOf(text);
  const found = useQuery({
    queryKey: keys.foundTrades(asked),
    queryFn: () => ask(api.GET("/api/runs/trades", { params: { query: asked ?? {} } })),
    enabled: asked !== null,
    placeholderData: keepPreviousData,
  });
  return (asked && found.data) || [];
}

/** Whether a text may name a contract: it has a strike and something beside it. */
const namesContract = (text: string) => /\d/.test(text) && /[a-z]/i.test(text) && !/^trade/i.test(text);

export function useFoundContracts(text: string) {
  const asked = namesContract(text);
  const found = useQuery({
    queryKey: keys.foundContracts(text.trim().toLowerCase()),
    queryFn: () => ask(api.GET("/api/contracts", { params: { query: { text } } })),
    enabled: asked,
    placeholderData: keepPreviousData,
  });
  return (asked && found.data) || [];
}

export const useFoundReplays = (enabled: boolean) =>
  useQuery({ queryKey: keys.foundReplays(), queryFn: () => ask(api.GET("/api/replays")), enabled });
