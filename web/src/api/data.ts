/** Data: what is there, files on their way in. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask, csrf, Refusal, type Schemas } from "./client";
import { keys, writes } from "./keys";
import { renew } from "./push";

export type Holdings = Schemas["HoldingsOut"];
export type Coverage = Schemas["CoverageOut"];
export type Intake = Schemas["IntakeOut"];
export type Calendar = Schemas["CalendarOut"];
export type Preview = Schemas["IntakePreview"];
export type Mapping = Record<string, unknown> & { columns: Record<string, string> };
export type Terms = Record<string, unknown>;

export const useHoldings = () =>
  useQuery({ queryKey: keys.holdings(), queryFn: () => ask(api.GET("/api/data")) });

export const useCoverage = (symbol: string | undefined) =>
  useQuery({
    queryKey: keys.coverage(symbol),
    queryFn: () =>
      ask(api.GET("/api/data/{symbol}/coverage", { params: { path: { symbol: symbol ?? "" } } })),
    enabled: symbol !== undefined,
  });

export const useOthers = () =>
  useQuery({ queryKey: keys.others(), queryFn: () => ask(api.GET("/api/data-others")) });

/** Names of the person's own series. */
export const useSeriesNames = (): string[] => useOthers().data?.series.map((one) => one.name) ?? [];

export const useFacts = (symbol: string, kind: string, enabled: boolean) =>
  useQuery({
    queryKey: keys.facts(symbol, kind),
    queryFn: () => ask(api.GET("/api/data/{symbol}/facts/{kind}", { params: { path: { symbol, kind } } })),
    enabled,
  });

export const useWords = () =>
  useQuery({
    queryKey: keys.dataWords(),
    queryFn: () => ask(api.GET("/api/data/words")),
    staleTime: Number.POSITIVE_INFINITY,
  });

export const useIntakes = () =>
  useQuery({
    queryKey: keys.intakes(),
    queryFn: () => ask(api.GET("/api/intakes")),
    refetchInterval: (query) =>
      query.state.data?.some((row) => row.status === "running" || row.status === "queued") ? 2000 : false,
  });

export const useMappings = () =>
  useQuery({ queryKey: keys.mappings(), queryFn: () => ask(api.GET("/api/mappings")) });

/** What a file would be read as with a mapping and terms; asked again when they change. */
export const usePreview = (id: number, mapping: Mapping, terms: Terms) =>
  useQuery({
    queryKey: keys.intakePreview(id, mapping, terms),
    queryFn: () =>
      ask(
        api.POST("/api/intakes/{intake_id}/preview", {
          params: { path: { intake_id: id } },
          body: { mapping, terms },
        }),
      ),
    placeholderData: (previous, query) => (query?.queryKey[1] === id ? previous : undefined),
  });

/** Sends a file; ``onShare`` hears how much of it is on its way. */
export function send(file: File, onShare: (share: number) => void): Promise<Intake> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("POST", "/api/intakes");
    request.setRequestHeader("X-CSRFToken", csrf());
    request.upload.onprogress = (event) => onShare(event.lengthComputable ? event.loaded / event.total : 0);
    request.onerror = () => reject(new Refusal(0, "The file did not arrive. Is Strell running? Try again."));
    request.onload = () => {
      let body: { message?: string } = {};
      try {
        body = JSON.parse(request.responseText);
      } catch {
        // an answer without words
      }
      if (request.status === 200) resolve(body as unknown as Intake);
      else reject(new Refusal(request.status, body.message ?? `The server answered with ${request.status}.`));
    };
    const form = new FormData();
    form.append("file", file);
    request.send(form);
  });
}

function useDataWrite<T, R>(write: (given: T) => Promise<R>) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: write,
    onSettled: () => {
      for (const key of writes.data) renew(cache, key);
    },
  });
}

export const useStart = (id: number) =>
  useDataWrite((body: { mapping: Mapping; terms: Terms; adds: boolean }) =>
    ask(api.POST("/api/intakes/{intake_id}/start", { params: { path: { intake_id: id } }, body })),
  );

export const useIntakeAction = () =>
  useDataWrite(
    ({ id, action }: { id: number; action: "cancel" | "take-back" | "forget" }): Promise<unknown> => {
      const params = { path: { intake_id: id } };
      if (action === "cancel") return ask(api.POST("/api/intakes/{intake_id}/cancel", { params }));
      if (action === "take-back") return ask(api.POST("/api/intakes/{intake_id}/take-back", { params }));
      return ask(api.DELETE("/api/intakes/{intake_id}", { params }));
    },
  );

export const useSaveMapping = () =>
  useDataWrite((body: { name: string; mapping: Mapping }) => ask(api.PUT("/api/mappings", { body })));

export const useCopy = (symbol: string) =>
  useDataWrite((copy: string) =>
    ask(api.POST("/api/data/{symbol}/copy", { params: { path: { symbol } }, body: { symbol: copy } })),
  );

export const useRemove = (symbol: string) =>
  useDataWrite((body: { start: string; end: string }) =>
    ask(api.POST("/api/data/{symbol}/remove", { params: { path: { symbol } }, body })),
  );

export const useChangeTerms = (symbol: string) =>
  useDataWrite((body: Schemas["TermsIn"]) =>
    ask(api.POST("/api/data/{symbol}/terms", { params: { path: { symbol } }, body })),
  );

export const useChangeTermsBack = (symbol: string) =>
  useDataWrite((start: string) =>
    ask(api.DELETE("/api/data/{symbol}/terms/{start}", { params: { path: { symbol, start } } })),
  );

export const useRemoveFact = (symbol: string, kind: string) =>
  useDataWrite((body: { date: string; what: string }) =>
    ask(api.POST("/api/data/{symbol}/facts/{kind}/remove", { params: { path: { symbol, kind } }, body })),
  );

export const useUndoRemoval = () =>
  useDataWrite((id: number) =>
    ask(api.POST("/api/removals/{removal_id}/undo", { params: { path: { removal_id: id } } })),
  );

export const useCalendars = () =>
  useQuery({ queryKey: keys.calendars(), queryFn: () => ask(api.GET("/api/calendars")) });

export const useKeepCalendar = () =>
  useDataWrite(({ name, body }: { name: string; body: Schemas["CalendarChange"] }) =>
    ask(api.PUT("/api/calendars/{name}", { params: { path: { name } }, body })),
  );

export const useForgetCalendar = () =>
  useDataWrite((name: string) => ask(api.DELETE("/api/calendars/{name}", { params: { path: { name } } })));
