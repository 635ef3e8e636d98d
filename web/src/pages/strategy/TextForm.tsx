import { lazy, Suspense, useEffect, useState } from "react";
import { Link, useNavigate } from "react-router";
import { Refusal, type Schemas } from "../../api/client";
import { useRevise, useText } from "../../api/queries";
import { useKeys } from "../../ui/keyboard";
import { ErrorNote, Skeleton } from "../../ui/parts";
import { tell } from "../../ui/toast";

const TextEditor = lazy(() => import("./TextEditor"));

/** The strategy as a YAML file; errors are marked at their line and nothing typed is lost. */
export function TextForm({ strategy }: { strategy: Schemas["StrategyOut"] }) {
  // what is typed belongs to the revision it began with, also when another one is kept meanwhile
  const [base] = useState(strategy.revision);
  const text = useText(strategy.id, base);
  const revise = useRevise(strategy.id);
  const go = useNavigate();
  const draft = `strell-text-${strategy.id}-${base}`;
  // what was typed and not kept outlives the page, whichever way it is left
  const [typed, setTyped] = useState<string | null>(() => sessionStorage.getItem(draft));
  const [begun, setBegun] = useState(typed);
  useEffect(() => {
    if (typed === null) sessionStorage.removeItem(draft);
    else sessionStorage.setItem(draft, typed);
  }, [typed, draft]);
  const problems = revise.error instanceof Refusal ? revise.error.problems : [];

  function save() {
    revise.mutate(
      { based_on: base, text: typed ?? text.data?.text ?? "" },
      {
        onSuccess: (saved) => {
          tell(`Revision ${saved.revision} is kept.`);
          sessionStorage.removeItem(draft);
          setTyped(null);
          go(`/strategies/${strategy.id}/rules`);
        },
      },
    );
  }

  useKeys({ "ctrl+s": () => text.data && !revise.isPending && save() });
  function leave() {
    setTyped(null);
    setBegun(null);
  }

  return (
    <div className="flex h-full flex-col gap-3">
      <div className="flex items-center gap-3">
        <h2 className="flex-1 font-sans text-head font-semibold">As text</h2>
        <a className="link" href="/api/strategy-schema.json">
          JSON Schema
        </a>
        <Link className="link" to={`/strategies/${strategy.id}/rules`} onClick={leave}>
          Leave it as it was
        </Link>
        <button
          type="button"
          className="button primary"
          onClick={save}
          disabled={!text.data || revise.isPending}
        >
          Keep as a revision
        </button>
      </div>
      <ErrorNote error={revise.error ?? text.error} />
      {strategy.revision !== base && (
        <p role="alert" className="text-loss">
          Revision {strategy.revision} was kept meanwhile; this text is of revision {base} and would undo it.
          Copy what you want to keep, then{" "}
          <a className="link" href={`/strategies/${strategy.id}/text`}>
            open the new revision
          </a>
          .
        </p>
      )}
      {begun !== null && text.data && begun !== text.data.text && (
        <p role="status" className="text-soft">
          This is what you typed before and have not kept.{" "}
          <button type="button" className="link" onClick={leave}>
            Begin with what is kept
          </button>
        </p>
      )}
      <div className="card min-h-64 flex-1 overflow-auto">
        <Suspense fallback={<Skeleton className="m-3 h-64" />}>
          {text.data && (
            <TextEditor
              key={`${begun === null}`}
              text={begun ?? text.data.text}
              problems={problems}
              onChange={(now) => {
                setTyped(now);
                if (revise.error) revise.reset();
              }}
            />
          )}
        </Suspense>
      </div>
    </div>
  );
}
