import { lazy, Suspense, useState } from "react";
import { Link, useNavigate } from "react-router";
import { Refusal, type Schemas } from "../../api/client";
import { useRevise, useText } from "../../api/queries";
import { ErrorNote, Skeleton } from "../../ui/parts";
import { tell } from "../../ui/toast";

const TextEditor = lazy(() => import("./TextEditor"));

/** The strategy as a YAML file; errors are marked at their line and nothing typed is lost. */
export function TextForm({ strategy }: { strategy: Schemas["StrategyOut"] }) {
  const text = useText(strategy.id, strategy.revision);
  const revise = useRevise(strategy.id);
  const go = useNavigate();
  const [typed, setTyped] = useState<string | null>(null);
  const problems = revise.error instanceof Refusal ? revise.error.problems : [];

  function save() {
    revise.mutate(
      { based_on: strategy.revision, text: typed ?? text.data?.text ?? "" },
      {
        onSuccess: (saved) => {
          tell(`Revision ${saved.revision} is kept.`);
          setTyped(null);
          go(`/strategies/${strategy.id}/rules`);
        },
      },
    );
  }

  return (
    <div className="flex h-full flex-col gap-3">
      <div className="flex items-center gap-3">
        <h2 className="flex-1 font-sans text-head font-semibold">As text</h2>
        <a className="link" href="/api/strategy-schema.json">
          JSON Schema
        </a>
        <Link className="link" to={`/strategies/${strategy.id}/rules`}>
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
      <div className="card min-h-64 flex-1 overflow-auto">
        <Suspense fallback={<Skeleton className="m-3 h-64" />}>
          {text.data && (
            <TextEditor
              key={strategy.revision}
              text={text.data.text}
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
