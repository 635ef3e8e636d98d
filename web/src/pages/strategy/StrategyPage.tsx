import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useCallback, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { Refusal } from "../../api/client";
import {
  type Document,
  previewOf,
  useAddEntry,
  useDecided,
  useDeclarations,
  useDuplicate,
  useGoBack,
  useMirrorSentence,
  useRevise,
  useRun,
  useRuns,
  useStrategy,
  useTrade,
} from "../../api/queries";
import { plural } from "../../ui/format";
import { useKeys } from "../../ui/keyboard";
import { Empty, ErrorNote, Skeleton } from "../../ui/parts";
import { type Stage, TrackBar } from "../../ui/Track";
import { tell, tellError } from "../../ui/toast";
import { BacktestEvidence } from "../run/BacktestEvidence";
import { previewEvidence, runEvidence } from "./evidence";
import { PaperEvidence } from "./PaperEvidence";
import { ReplayEvidence } from "./ReplayEvidence";
import { Revisions } from "./Revisions";
import { RulesEvidence } from "./RulesEvidence";
import { Sheet } from "./Sheet";
import { TextForm } from "./TextForm";
import { type Evidence, NO_EVIDENCE, type Strategy } from "./types";
import { Underlyings } from "./Underlyings";

const STAGES: Stage[] = ["rules", "backtest", "replay", "paper"];

export function StrategyPage() {
  const { id, stage = "rules" } = useParams();
  const [query] = useSearchParams();
  const strategy = useStrategy(Number(id));
  // asked for together with the strategy; what is shown inside finds them there
  useRunOf(Number(id), stage, query);
  useDeclarations();
  if (strategy.error instanceof Refusal && strategy.error.status === 404)
    return (
      <Empty title="There is no such strategy.">
        <Link className="link" to="/">
          To the shelf
        </Link>
      </Empty>
    );
  // with the sheet there, what is being typed into it outlives a question without an answer
  if (strategy.error && !strategy.data)
    return (
      <div className="m-6">
        <ErrorNote error={strategy.error} onRetry={() => strategy.refetch()} />
      </div>
    );
  if (!strategy.data) return <Skeleton className="m-6 h-96" />;
  return <Page key={strategy.data.id} strategy={strategy.data} stage={stage} />;
}

/** Saves a changed document as a new revision and offers to take it back. */
function useSave(strategy: Strategy, stage: string, at: string | null, entry: string | null) {
  // only these stay the same from one drawing of the page to the next, and with them what the sheet is given
  const { mutateAsync: revise } = useRevise(strategy.id);
  const { mutate: back } = useGoBack(strategy.id);
  const { mutateAsync: mirroring } = useMirrorSentence(strategy.id);
  const { mutateAsync: adding } = useAddEntry(strategy.id);
  const before = strategy.revision;
  const undo = useCallback(
    (to: number) =>
      back(to, {
        onSuccess: (now) => tell(`Revision ${now.revision} is revision ${to} again.`),
        onError: tellError,
      }),
    [back],
  );
  const kept = useCallback(
    (saved: Strategy) => {
      if (saved.revision !== before) {
        const outdated = saved.track.outdated;
        const runs = outdated > 0 ? ` It outdates ${plural(outdated, "run")}.` : "";
        tell(`Revision ${saved.revision} is kept.${runs}`, { label: "Undo", run: () => undo(before) });
      }
      return saved;
    },
    [before, undo],
  );
  const save = useCallback(
    async (document: Document) => {
      const shown = stage === "rules" ? { at, entry } : undefined;
      return kept(await revise({ based_on: before, document, shown }));
    },
    [revise, before, kept, stage, at, entry],
  );
  const mirror = useCallback(
    async (sentence: string) => kept(await mirroring({ sentence, basedOn: before })),
    [mirroring, before, kept],
  );
  const like = useCallback(
    async (entry: string, mirrored: boolean) =>
      kept(await adding({ entry, mirror: mirrored, basedOn: before })),
    [adding, before, kept],
  );
  return { save, mirror, like, undo };
}

function Page({ strategy, stage }: { strategy: Strategy; stage: string }) {
  const [query] = useSearchParams();
  const at = query.get("at");
  const { save, mirror, like, undo } = useSave(strategy, stage, at, query.get("entry"));
  const go = useNavigate();
  const duplicate = useDuplicate();
  const [folded, setFolded] = useState(true);
  const shown = useShown(strategy, stage, at, query);
  const { evidence, marked } = beside(stage, shown);
  useKeys({
    ...Object.fromEntries(
      STAGES.map((name, i) => [String(i + 1), () => go(`/strategies/${strategy.id}/${name}`)]),
    ),
    "ctrl+z": () => strategy.revision > 1 && undo(strategy.revision - 1),
  });
  const { outdated } = strategy.track;
  return (
    <div className="flex h-[calc(100vh_-_--spacing(10))] min-h-130 flex-col">
      <header className="flex items-center gap-6 border-b px-4.5 py-2">
        <div className="min-w-0 flex-1">
          <Title strategy={strategy} save={save} />
          <div className="mt-0.5 flex gap-2">
            <Underlyings document={strategy.document} save={save} />
            <Revisions strategy={strategy} />
            {outdated > 0 && (
              <Link to={`/strategies/${strategy.id}/backtest`} className="pill border-loss text-loss">
                {plural(outdated, "run")} outdated
              </Link>
            )}
          </div>
        </div>
        <TrackBar
          id={strategy.id}
          track={strategy.track}
          sentences={strategy.sentences}
          stage={STAGES.find((name) => name === stage)}
        />
      </header>
      <div className="flex min-h-0 flex-1">
        <aside
          className={`overflow-y-auto border-r bg-surface ${folded ? "w-0 wide:w-103" : "w-103"} shrink-0`}
        >
          <Sheet
            strategy={strategy.id}
            revision={strategy.revision}
            document={strategy.document}
            sheet={strategy.sheet}
            blocks={strategy.blocks}
            evidence={evidence}
            marked={marked}
            save={save}
            mirror={mirror}
            like={like}
            footer={
              <>
                <button
                  type="button"
                  className="link"
                  onClick={() =>
                    duplicate.mutate(
                      { id: strategy.id, mirror: true },
                      { onSuccess: (made) => go(`/strategies/${made.id}/rules`), onError: tellError },
                    )
                  }
                >
                  Mirror into a new one
                </button>
                <Link className="link" to={`/strategies/${strategy.id}/text`}>
                  As text
                </Link>
                <a className="link" href={`/api/strategies/${strategy.id}/file`}>
                  Save as a file
                </a>
              </>
            }
          />
        </aside>
        <button
          type="button"
          className="w-7 shrink-0 border-r bg-surface text-xs text-sea [writing-mode:vertical-rl] wide:hidden"
          aria-expanded={!folded}
          onClick={() => setFolded(!folded)}
        >
          {folded ? "Unfold the sheet" : "Fold the sheet"}
        </button>
        <div className="min-w-0 flex-1 overflow-y-auto px-4.5 py-3">
          {stage === "rules" && (
            <RulesEvidence strategy={strategy} at={at} run={shown.decided.data} preview={shown.preview} />
          )}
          {stage === "backtest" && (
            <BacktestEvidence
              strategy={strategy}
              runs={shown.runs.data}
              run={shown.run.data}
              trade={shown.trade}
              error={shown.runs.error ?? shown.run.error}
              unknown={shown.unknown}
              loading={shown.run.isLoading}
              save={save}
            />
          )}
          {stage === "replay" && <ReplayEvidence strategy={strategy} />}
          {stage === "paper" && <PaperEvidence strategy={strategy} />}
          {stage === "text" && <TextForm strategy={strategy} />}
          {stage !== "text" && !STAGES.some((name) => name === stage) && (
            <Empty title={`There is no stage called “${stage}”.`}>
              <Link className="link" to={`/strategies/${strategy.id}/rules`}>
                To its rules
              </Link>
            </Empty>
          )}
        </div>
      </div>
    </div>
  );
}

/** What the stage that is open asks for: the sheet and the evidence beside it read the same answers. */
function useShown(strategy: Strategy, stage: string, at: string | null, query: URLSearchParams) {
  const preview = useQuery({
    ...previewOf(strategy.id, strategy.revision, at, query.get("entry")),
    enabled: stage === "rules",
    placeholderData: keepPreviousData,
  });
  const of = useRunOf(strategy.id, stage, query);
  const trade = of.run.data?.trades.find((row) => row.number === Number(query.get("trade")));
  const history = useTrade(of.run.data?.id ?? 0, trade?.number ?? 0, null, trade !== undefined);
  return { ...of, preview, trade, events: trade && history.data?.events };
}

/** The run that a stage shows, with as much of it as it needs: the one of the address, or the last that is done. */
function useRunOf(strategy: number, stage: string, query: URLSearchParams) {
  const runs = useRuns(strategy);
  // a sweep's variant is looked at by its number only
  const last = runs.data?.find((run) => run.status === "done" && !run.variant)?.id;
  // a run is addressed by its number among those of this strategy: another's is never shown here
  const named = stage === "backtest" ? query.get("run") : null;
  const row = runs.data?.find((run) => String(run.number) === named);
  const unknown = named !== null && runs.data !== undefined && !row ? named : null;
  const wanted = named === null ? last : row?.id;
  const run = useRun(stage === "backtest" ? wanted : undefined);
  const decided = useDecided(stage === "rules" ? wanted : undefined);
  return { runs, run, decided, unknown };
}

/** Counts at the sheet's edge, and the sentences that matter now. */
function beside(
  stage: string,
  { preview, run, trade, events }: ReturnType<typeof useShown>,
): { evidence: Evidence; marked: string[] } {
  if (stage === "rules" && preview.data)
    return {
      evidence: previewEvidence(preview.data),
      marked: preview.data.said_no ? [preview.data.said_no] : [],
    };
  if (stage !== "backtest") return { evidence: NO_EVIDENCE, marked: [] };
  // where there is one entry its sentences belong to nobody else
  const opening = run.data?.sheet.find(
    (sentence) => sentence.part === "when" && ["", trade?.entry].includes(sentence.entry),
  )?.id;
  return {
    evidence: runEvidence(run.data),
    marked: trade ? [opening ?? "", trade.rule, ...(events ?? []).map((event) => event.rule)] : [],
  };
}

function Title({ strategy, save }: { strategy: Strategy; save: (document: Document) => Promise<unknown> }) {
  const [name, setName] = useState<string | null>(null);
  if (name === null)
    return (
      <h1 className="truncate text-figure leading-7 font-semibold">
        <button type="button" title="Rename" onClick={() => setName(strategy.name)}>
          {strategy.name}
        </button>
      </h1>
    );
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        save({ ...strategy.document, name }).then(() => setName(null), tellError);
      }}
    >
      <input
        className="field h-7 w-72 font-serif text-section"
        aria-label="Name of the strategy"
        autoFocus
        maxLength={80}
        value={name}
        onChange={(event) => setName(event.target.value)}
        onKeyDown={(event) => event.key === "Escape" && setName(null)}
        onBlur={() => setName(null)}
      />
    </form>
  );
}
