import { Popover } from "radix-ui";
import { type FormEvent, useState } from "react";
import { useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import {
  useDescribeRevision,
  useDifferences,
  useDuplicate,
  useGoBack,
  useRevisions,
} from "../../api/queries";
import { ago } from "../../ui/format";
import { ErrorNote, Skeleton } from "../../ui/parts";
import { tell, tellError } from "../../ui/toast";

type Strategy = Schemas["StrategyOut"];
type Revision = Schemas["RevisionStep"];

function List({ strategy, close }: { strategy: Strategy; close: () => void }) {
  const revisions = useRevisions(strategy.id);
  const runs = new Map<number, Revision[]>();
  for (const step of revisions.data ?? []) runs.set(step.ends, [...(runs.get(step.ends) ?? []), step]);
  return (
    <ol className="max-h-100 overflow-auto">
      {[...runs.values()].map((steps) => (
        <Run key={steps[0]!.ends} strategy={strategy} steps={steps} close={close} />
      ))}
    </ol>
  );
}

/** A run of edits, as one: its last step stands for it, the others are shown on demand. */
function Run({ strategy, steps, close }: { strategy: Strategy; steps: Revision[]; close: () => void }) {
  const [opened, setOpened] = useState<number | null>(null);
  const [unfolded, setUnfolded] = useState(false);
  const last = steps[0]!;
  const toggle = (number: number) => setOpened(opened === number ? null : number);
  return (
    <li className="border-b py-1.5 last:border-0">
      <Step
        strategy={strategy}
        revision={last}
        says={last.in_all || last.change}
        open={opened === last.number}
        toggle={() => toggle(last.number)}
        close={close}
      />
      {steps.length > 1 && (
        <button
          type="button"
          className="link ml-9 text-xs"
          aria-expanded={unfolded}
          onClick={() => setUnfolded(!unfolded)}
        >
          {unfolded ? "fold" : "in"} {steps.length} steps
        </button>
      )}
      {unfolded && (
        <ol className="ml-6">
          {steps.map((step) => (
            <li key={step.number} className="pt-1">
              <Step
                strategy={strategy}
                revision={step}
                says={step.change}
                open={opened === step.number && step !== last}
                toggle={() => toggle(step.number)}
                close={close}
              />
            </li>
          ))}
        </ol>
      )}
    </li>
  );
}

interface StepProps extends OpenedProps {
  says: string;
  open: boolean;
  toggle: () => void;
}

function Step({ strategy, revision, says, open, toggle, close }: StepProps) {
  return (
    <>
      <div className="flex gap-3">
        <span className="w-6 text-soft">{revision.number}</span>
        <button
          type="button"
          className="min-w-0 flex-1 text-left font-serif text-lead"
          aria-expanded={open}
          onClick={toggle}
        >
          {says}
          {revision.note && <span className="block font-sans text-xs text-soft">{revision.note}</span>}
        </button>
        <span className="text-xs text-soft">
          {revision.number === strategy.revision ? "latest, " : ""}
          {ago(revision.created_at)}
        </span>
      </div>
      {open && <Opened strategy={strategy} revision={revision} close={close} />}
    </>
  );
}

interface OpenedProps {
  strategy: Strategy;
  revision: Revision;
  close: () => void;
}

/** A revision beside the latest, its note, and what can be done with it. */
function Opened({ strategy, revision, close }: OpenedProps) {
  const latest = revision.number === strategy.revision;
  const back = useGoBack(strategy.id);
  const duplicate = useDuplicate();
  const go = useNavigate();
  return (
    <div className="mt-1 ml-9 flex flex-col gap-2">
      <Note strategy={strategy} revision={revision} />
      {!latest && <Differences strategy={strategy} revision={revision.number} />}
      <div className="flex gap-4 text-xs">
        {!latest && (
          <button
            type="button"
            className="link"
            onClick={() =>
              back.mutate(revision.number, {
                onSuccess: (now) => {
                  tell(`Revision ${now.revision} is revision ${revision.number} again.`);
                  close();
                },
                onError: tellError,
              })
            }
          >
            go back
          </button>
        )}
        <button
          type="button"
          className="link"
          onClick={() =>
            duplicate.mutate(
              { id: strategy.id, mirror: false, revision: revision.number },
              {
                onSuccess: (made) => {
                  close();
                  go(`/strategies/${made.id}/rules`);
                },
                onError: tellError,
              },
            )
          }
        >
          a new strategy from it
        </button>
      </div>
    </div>
  );
}

function Note({ strategy, revision }: { strategy: Strategy; revision: Revision }) {
  const describe = useDescribeRevision(strategy.id);
  const [note, setNote] = useState(revision.note);
  function submit(event: FormEvent) {
    event.preventDefault();
    describe.mutate({ number: revision.number, note }, { onError: tellError });
  }
  return (
    <form className="flex gap-2" onSubmit={submit}>
      <input
        className="field h-6 flex-1 text-xs"
        aria-label={`Note on revision ${revision.number}`}
        placeholder="why it was made"
        maxLength={500}
        value={note}
        onChange={(event) => setNote(event.target.value)}
      />
      <button type="submit" className="button small" disabled={note.trim() === revision.note}>
        Keep
      </button>
    </form>
  );
}

function Differences({ strategy, revision }: { strategy: Strategy; revision: number }) {
  const found = useDifferences(strategy.id, revision, strategy.revision);
  if (found.error) return <ErrorNote error={found.error} onRetry={() => found.refetch()} />;
  if (!found.data) return <Skeleton className="h-10" />;
  if (found.data.length === 0)
    return <p className="text-xs text-soft">Its sentences are those of the latest.</p>;
  return (
    <ul aria-label={`Revision ${revision} beside the latest`} className="flex flex-col gap-1 text-xs">
      {found.data.map(({ section, texts: [then, now] }) => (
        <li key={`${section}${then}${now}`}>
          <span className="text-soft">{section}: </span>
          {then ? <span className="font-serif">{then}</span> : <span className="text-soft">not there</span>}
          <span className="text-soft"> — now: </span>
          {now ? <span className="font-serif">{now}</span> : <span className="text-soft">gone</span>}
        </li>
      ))}
    </ul>
  );
}

export function Revisions({ strategy }: { strategy: Strategy }) {
  const [open, setOpen] = useState(false);
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="pill" aria-label={`Revision ${strategy.revision}, show all`}>
        revision {strategy.revision}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content className="popover w-125 p-3" align="start" sideOffset={6} aria-label="Revisions">
          <List strategy={strategy} close={() => setOpen(false)} />
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
