/** What is asked of finished runs beside their figures. */
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, ask, type Schemas } from "./client";
import { keys, writes } from "./keys";
import { useRunWrite } from "./queries";

const FOR_EVER = Number.POSITIVE_INFINITY;

export const useSlices = (run: number, choose: string[], measure: string[], enabled: boolean) =>
  useQuery({
    queryKey: keys.slices(run, choose, measure),
    queryFn: () =>
      ask(
        api.GET("/api/runs/{run_id}/slices", {
          params: { path: { run_id: run }, query: { choose, measure } },
        }),
      ),
    placeholderData: keepPreviousData,
    staleTime: FOR_EVER,
    enabled,
  });

/** The last finished runs of all strategies. */
export const useLatestRuns = (enabled: boolean) =>
  useQuery({ queryKey: keys.latestRuns(), queryFn: () => ask(api.GET("/api/runs/latest")), enabled });

export const useSliceMeasures = () =>
  useQuery({
    queryKey: keys.sliceMeasures(),
    queryFn: () => ask(api.GET("/api/slices/measures")),
    staleTime: FOR_EVER,
  });

export const useCourse = (run: number) =>
  useQuery({
    queryKey: keys.course(run),
    queryFn: () => ask(api.GET("/api/runs/{run_id}/course", { params: { path: { run_id: run } } })),
    staleTime: FOR_EVER,
  });

export const useLuck = (run: number) =>
  useQuery({
    queryKey: keys.luck(run),
    queryFn: () => ask(api.GET("/api/runs/{run_id}/luck", { params: { path: { run_id: run } } })),
  });

export const useOtherExits = (run: number, trade: number) =>
  useQuery({
    queryKey: keys.otherExits(run, trade),
    queryFn: () =>
      ask(
        api.GET("/api/runs/{run_id}/trades/{number}/other-exits", {
          params: { path: { run_id: run, number: trade } },
        }),
      ),
    staleTime: FOR_EVER,
  });

export const useCompared = (runs: number[]) =>
  useQuery({
    queryKey: keys.compared(runs),
    queryFn: () => ask(api.GET("/api/compare", { params: { query: { run: runs } } })),
    enabled: runs.length > 1,
    placeholderData: keepPreviousData,
  });

/** Name, note, tags; archived or not; the baseline or not. */
export const useDescribeRun = () =>
  useRunWrite(
    ({ id, words }: { id: number; words: Schemas["RunWords"] }) =>
      ask(api.PATCH("/api/runs/{run_id}", { params: { path: { run_id: id } }, body: words })),
    () => [...writes.run, keys.latestRuns(), keys.compared()],
  );

/** A run of the same over the sessions recorded since as well. */
export const useExtendRun = () =>
  useRunWrite((id: number) =>
    ask(api.POST("/api/runs/{run_id}/extend", { params: { path: { run_id: id } } })),
  );
