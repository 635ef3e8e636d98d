import { type FormEvent, useState } from "react";
import { useDescribeRun } from "../../api/runs";
import { Window } from "../../ui/Dialog";
import { ErrorNote } from "../../ui/parts";
import { tell } from "../../ui/toast";
import type { RunRow } from "../strategy/types";

interface Props {
  run: RunRow;
  open: boolean;
  onOpenChange: (open: boolean) => void;
}

const tagsOf = (text: string) =>
  text
    .split(",")
    .map((tag) => tag.trim())
    .filter(Boolean);

/** What a person says of a run: its name, a note, tags, and whether others are compared with it. */
export function RunWords({ run, open, onOpenChange }: Props) {
  return (
    <Window
      open={open}
      onOpenChange={onOpenChange}
      title={`Run ${run.number}`}
      about="What it is to be remembered by. None of it changes a result."
    >
      {open && <WordsForm run={run} done={() => onOpenChange(false)} />}
    </Window>
  );
}

function WordsForm({ run, done }: { run: RunRow; done: () => void }) {
  const describe = useDescribeRun();
  const [name, setName] = useState(run.name);
  const [note, setNote] = useState(run.note);
  const [tags, setTags] = useState(run.tags.join(", "));
  const [baseline, setBaseline] = useState(run.baseline);
  const [archived, setArchived] = useState(run.archived);

  function submit(event: FormEvent) {
    event.preventDefault();
    const words = {
      name,
      note,
      tags: tagsOf(tags),
      archived,
      ...(baseline !== run.baseline && { baseline }),
    };
    describe.mutate(
      { id: run.id, words },
      {
        onSuccess: () => {
          done();
          tell(
            archived && !run.archived ? `Run ${run.number} is archived.` : `Run ${run.number} is described.`,
          );
        },
      },
    );
  }

  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={submit}
      aria-label={`Words on run ${run.number}`}
      noValidate
    >
      <label className="flex flex-col gap-1">
        <span className="text-soft">Name</span>
        <input
          className="field"
          maxLength={80}
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
      </label>
      <label className="flex flex-col gap-1">
        <span className="text-soft">Note</span>
        <textarea
          className="field h-28 py-1"
          maxLength={5000}
          value={note}
          onChange={(event) => setNote(event.target.value)}
        />
      </label>
      <label className="flex flex-col gap-1">
        <span className="text-soft">Tags, with commas between</span>
        <input className="field" value={tags} onChange={(event) => setTags(event.target.value)} />
      </label>
      <label className="flex items-center gap-2">
        <input
          type="checkbox"
          checked={baseline}
          disabled={run.status !== "done"}
          onChange={(event) => setBaseline(event.target.checked)}
        />
        Baseline: other runs of this strategy are compared with it
      </label>
      <label className="flex items-center gap-2">
        <input type="checkbox" checked={archived} onChange={(event) => setArchived(event.target.checked)} />
        Archived: in the list of all runs only
      </label>
      <ErrorNote error={describe.error} />
      <div className="flex gap-3">
        <button type="submit" className="button primary" disabled={describe.isPending}>
          Keep
        </button>
        <button type="button" className="button" onClick={done}>
          Cancel
        </button>
      </div>
    </form>
  );
}
