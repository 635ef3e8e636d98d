import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { type Document, useFigureWords, useRunAction, useTerms } from "../../api/queries";
import { useExtendRun } from "../../api/runs";
import { useSweep, useSweeps } from "../../api/sweeps";
import { date, number, plural } from "../../ui/format";
import { Empty, ErrorNote, Skeleton } from "../../ui/parts";
import { tell, tellError } from "../../ui/toast";
import type { Run, RunRow, Strategy, TradeRow } from "../strategy/types";
import { SweepView } from "../sweep/SweepView";
import { AllRuns } from "./AllRuns";
import { Export, RunSelect, SweepSelect } from "./HeadChoices";
import { dayBefore, RunForm } from "./RunForm";
import { RunLooks } from "./RunLooks";
import { RunProgress } from "./RunProgress";
import { RunWords } from "./RunWords";
import { TradeView } from "./TradeView";

interface Props {
  strategy: Strategy;
  runs: RunRow[] | undefined;
  run: Run | undefined;
  /** The trade that is open. */
  trade: TradeRow | undefined;
  error: unknown;
  /** The run of the address, where the strategy has none with this number. */
  unknown: string | null;
  loading: boolean;
  save: (document: Document) => Promise<unknown>;
}

/** Runs of a strategy: ask for one, watch it, read its figures, curve and trades. */
export function BacktestEvidence({ strategy, runs, run, trade, error, unknown, loading, save }: Props) {
  const [query, setQuery] = useSearchParams();
  const { currency, last } = useTerms(strategy.underlying);
  const look = (number: number) => setQuery({ run: String(number) });
  const lookAtSweep = (number: number) => setQuery({ sweep: String(number) });
  const asked = useSweeps(strategy.id);
  const sweeps = asked.data ?? [];
  const named = query.get("sweep");
  const all = named === null && query.has("all");
  const known = sweeps.find((item) => String(item.number) === named);
  const sweep = useSweep(known?.id);
  // one that was just asked for is not in the list yet
  const noSweep = named !== null && !known && asked.data !== undefined && !asked.isFetching;
  const openTrade = (chosen: number | null) => {
    const to = new URLSearchParams(query);
    if (run) to.set("run", String(run.number));
    if (chosen) to.set("trade", String(chosen));
    else to.delete("trade");
    setQuery(to);
  };

  return (
    <div className="flex flex-col gap-3">
      <RunForm strategy={strategy} onAsked={look} onSwept={lookAtSweep} />
      <ErrorNote error={error} />
      {runs?.length === 0 && (
        <div className="card">
          <Empty title="No run yet.">
            Run the rules over recorded history. Its equity, figures and every trade will stand here.
          </Empty>
        </div>
      )}
      {unknown !== null && <Missing what={`run ${unknown}`} leave={() => setQuery({})} />}
      {noSweep && <Missing what={`sweep ${named}`} leave={() => setQuery({})} />}
      {(runs === undefined || (loading && !run)) && !error && <Skeleton className="h-80" />}
      {runs
        ?.filter((row) => row.status === "queued" || row.status === "running")
        .map((row) => (
          <section key={row.id} className="card px-4 py-2.5" aria-label={`Run ${row.number} under way`}>
            <b className="font-semibold">Run {row.number}</b>
            <span className="text-soft">
              {" "}
              {date(row.start)} – {date(row.end)}
            </span>
            <RunProgress run={row} />
          </section>
        ))}
      {runs && (runs.length > 0 || sweeps.length > 0) && (
        <div className="flex flex-wrap items-center gap-3">
          {runs.length > 0 && (
            <RunSelect runs={runs} run={named === null && !all ? run : undefined} look={look} />
          )}
          {sweeps.length > 0 && (
            <SweepSelect sweeps={sweeps} named={known ? named : null} look={lookAtSweep} />
          )}
          {runs.length > 1 && !all && (
            <Link className="link" to="?all">
              All runs
            </Link>
          )}
          {run && named === null && !all && (
            <RunHead
              run={run}
              currency={currency}
              baseline={runs.find((row) => row.baseline)?.id}
              last={strategy.held_from && !run.held ? dayBefore(strategy.held_from) : last}
              onGone={() => setQuery({})}
              onBack={look}
            />
          )}
        </div>
      )}
      {all && runs && <AllRuns runs={runs} look={look} />}
      {named !== null && (
        <>
          <ErrorNote error={sweep.error} onRetry={() => sweep.refetch()} />
          {sweep.data && <SweepView sweep={sweep.data} document={strategy.document} save={save} />}
          {!sweep.data && !sweep.error && !noSweep && <Skeleton className="h-80" />}
        </>
      )}
      {named === null &&
        !all &&
        run?.status === "done" &&
        run.figures &&
        (trade ? (
          <TradeView
            run={run}
            trade={trade}
            underlying={trade.symbol || strategy.underlying}
            open={openTrade}
          />
        ) : (
          <RunLooks
            run={run}
            figures={run.figures}
            underlying={strategy.underlying}
            currency={currency}
            document={strategy.document}
            save={save}
            openTrade={openTrade}
          />
        ))}
    </div>
  );
}

/** The address names something that the strategy does not have. */
function Missing({ what, leave }: { what: string; leave: () => void }) {
  return (
    <p role="status" className="text-loss">
      This strategy has no {what}.{" "}
      <button type="button" className="link" onClick={leave}>
        Show its latest run
      </button>
    </p>
  );
}

/** The policy that the sheet that ran says of something; undefined: it says nothing. */
function said(run: Run, rule: string): string | undefined {
  const orders = (run.document.orders ?? []) as { rule: string; policy?: string; off?: boolean }[];
  return orders.find((item) => item.rule === rule && !item.off)?.policy;
}

/** “Acts at 17:30.” behind the numbers of one sentence, or of several. */
function inSentence(acts: string, several: boolean) {
  const text = `${acts[0]?.toLowerCase()}${acts.slice(1, -1)}`;
  return several ? text.replace(/\bacts\b/g, "act").replace(/\bcomes\b/g, "come") : text;
}

/** When times of its sentences act, where the recorded snapshots lie elsewhere. */
const acting = (run: Run) => {
  const numbers = new Map<string, number[]>();
  for (const { acts, number, off } of run.sheet)
    if (acts && !off) numbers.set(acts, [...(numbers.get(acts) ?? []), number]);
  return [...numbers]
    .map(
      ([acts, of]) =>
        `${of.length > 1 ? "sentences" : "sentence"} ${of.join(" and ")} ${inSentence(acts, of.length > 1)}`,
    )
    .join("; ");
};

/** What it does in sessions with one snapshot. */
const policy = (run: Run) =>
  said(run, "single_snapshots") === "skip" ? " (entries skipped)" : " (decided on them)";

const SIZES: Record<string, string> = {
  take: "dealt in any size",
  split: "within quoted sizes, the rest waits",
  refuse: "entries within quoted sizes only",
};

function RunHead({
  run,
  baseline,
  last,
  onGone,
  onBack,
  currency,
}: {
  run: Run;
  currency: string;
  /** The last recorded session. */
  last: string;
  /** What other runs of the strategy are compared with. */
  baseline: number | undefined;
  onGone: () => void;
  onBack: (number: number) => void;
}) {
  const action = useRunAction();
  const words = useFigureWords();
  const figures = run.figures;
  const stopped = ["cancelled", "interrupted", "failed"].includes(run.status);
  const [describing, setDescribing] = useState(false);
  const extend = useExtendRun();
  const against = baseline !== undefined && baseline !== run.id ? `run=${baseline}&` : "";
  return (
    <>
      {run.baseline && <span className="pill">baseline</span>}
      {run.tags.map((tag) => (
        <span key={tag} className="pill">
          {tag}
        </span>
      ))}
      {run.variant && <span className="pill">{run.variant}</span>}
      <span className="min-w-0 truncate text-soft">
        {date(run.start)} – {date(run.end)}
        {run.extended.length > 0 && `, extended after ${run.extended.map(date).join(" and ")}`}
        {figures &&
          ` · ${plural(figures.single_sessions, "single-snapshot session")}${policy(run)}, ${number(figures.sessions - figures.single_sessions)} intraday`}
        {/* runs of earlier versions did not count these, and dealt in any size */}
        {figures?.exits_over_night != null && ` · ${SIZES[said(run, "quoted_size") ?? "split"]}`}
      </span>
      {figures?.ruined_on && (
        <span className="pill border-loss text-loss" title={words("ruined_on")}>
          all lost on {date(figures.ruined_on)}, where the run ends
        </span>
      )}
      {!!figures?.exits_delayed && (
        <span className="pill border-loss text-loss" title={words("exits_delayed")}>
          {plural(figures.exits_delayed, "exit")} decided, not carried out
        </span>
      )}
      {!!figures?.exits_over_night && (
        <span
          className="pill"
          title={`${words("exits_over_night")} ${figures.night_cost == null ? "" : words("night_cost")}`}
        >
          {plural(figures.exits_over_night, "exit")} carried over night
          {figures.night_cost != null &&
            `, ${figures.night_cost < 0 ? "gained" : "cost"} ${number(Math.abs(figures.night_cost))} ${currency}`}
        </span>
      )}
      {figures?.capital_limited === false && (
        <span className="pill border-loss text-loss" title={words("capital_limited")}>
          capital not limited
        </span>
      )}
      {!!figures?.capital_refused && (
        <span className="pill" title={words("capital_refused")}>
          {plural(figures.capital_refused, "entry", "entries")} refused for capital
        </span>
      )}
      {!!figures?.capital_calls && (
        <span className="pill border-loss text-loss" title={words("capital_calls")}>
          {plural(figures.capital_calls, "call")} on capital
        </span>
      )}
      {!!figures?.beyond_size && (
        <span className="pill" title={words("beyond_size")}>
          {plural(figures.beyond_size, "fill")} beyond the quoted size
        </span>
      )}
      {!!figures?.entries_unfilled && (
        <span className="pill" title={words("entries_unfilled")}>
          {plural(figures.entries_unfilled, "entry", "entries")} not filled
        </span>
      )}
      {!!figures?.awaiting_value && (
        <span className="pill border-loss text-loss" title={words("awaiting_value")}>
          {plural(figures.awaiting_value, "trade waits", "trades wait")} for a settlement value
        </span>
      )}
      {run.outdated && <span className="pill border-loss text-loss">of revision {run.revision}</span>}
      <span className="ml-auto flex gap-3">
        <button
          type="button"
          className="link"
          aria-label={`Name and note of run ${run.number}`}
          onClick={() => setDescribing(true)}
        >
          Name…
        </button>
        {run.status === "done" && last > run.end && !figures?.ruined_on && (
          <button
            type="button"
            className="link"
            title={`Go on from ${date(run.end)} as a run of its own: only the sessions since are computed.`}
            disabled={extend.isPending}
            onClick={() =>
              extend.mutate(run.id, {
                onSuccess: (made) => onBack((made as RunRow).number),
                onError: tellError,
              })
            }
          >
            Extend to {date(last)}
          </button>
        )}
        <RunWords run={run} open={describing} onOpenChange={setDescribing} />
        {run.status === "done" && (
          <Link className="link" to={`/compare?${against}run=${run.id}`}>
            Compare
          </Link>
        )}
        {run.status === "done" && <Export run={run} />}
        {!["queued", "running"].includes(run.status) && (
          <button
            type="button"
            className="link"
            aria-label={`Delete run ${run.number}`}
            onClick={() =>
              action.mutate(
                { id: run.id, action: "delete" },
                {
                  onSuccess: () => {
                    onGone();
                    tell(`Run ${run.number} is gone.`, {
                      label: "Undo",
                      run: () =>
                        void action
                          .mutateAsync({ id: run.id, action: "restore" })
                          .then(() => onBack(run.number), tellError),
                    });
                  },
                  onError: tellError,
                },
              )
            }
          >
            Delete
          </button>
        )}
      </span>
      {acting(run) && <p className="w-full text-xs text-soft">On these snapshots {acting(run)}.</p>}
      {run.status === "done" && run.message && <p className="w-full text-loss">{run.message}</p>}
      {run.note && <p className="w-full max-w-200 whitespace-pre-line text-soft">{run.note}</p>}
      {stopped && (
        <p role="status" className="w-full text-loss">
          This run is {run.status}. {run.message}{" "}
          <button
            type="button"
            className="button small ml-2"
            onClick={() => action.mutate({ id: run.id, action: "go-on" }, { onError: tellError })}
          >
            Go on
          </button>
        </p>
      )}
    </>
  );
}
