import { RadioGroup } from "radix-ui";
import { type FormEvent, useState } from "react";
import { useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { useCreateStrategy, useStarters, useUnderlyings } from "../../api/queries";
import { Window } from "../../ui/Dialog";
import { ErrorNote } from "../../ui/parts";

type Starter = Schemas["StarterOut"];

const FIRST = "short-put";

/** A strategy is begun from one of its family; everything in it is meant to be changed. */
export function NewStrategy({
  open,
  onOpenChange,
}: {
  open: boolean;
  onOpenChange: (open: boolean) => void;
}) {
  const underlyings = useUnderlyings();
  const starters = useStarters();
  const create = useCreateStrategy();
  const go = useNavigate();
  const [id, setId] = useState(FIRST);
  const [named, setNamed] = useState<string | null>(null);
  const [underlying, setUnderlying] = useState("");
  const starter = starters.data?.find((one) => one.id === id);
  const name = named ?? starter?.title ?? "";
  // what deals in the underlying itself begins with one that can be dealt in
  const fitting = underlyings.data?.filter((row) => !starter?.needs_units || row.delivers);
  const chosen = fitting?.some((row) => row.symbol === underlying)
    ? underlying
    : (fitting?.[0]?.symbol ?? "");

  function submit(event: FormEvent) {
    event.preventDefault();
    create.mutate(
      { begin: { starter: id, name, underlying: chosen } },
      {
        onSuccess: (made) => {
          setNamed(null);
          go(`/strategies/${made.id}/rules`);
        },
      },
    );
  }

  return (
    <Window
      open={open}
      onOpenChange={onOpenChange}
      title="New strategy"
      about="Begin from one of a family; change every value in place, add sentences and legs."
      width="max-w-3xl"
    >
      <form onSubmit={submit} className="grid grid-cols-[--spacing(58)_1fr] gap-4">
        <RadioGroup.Root
          value={id}
          onValueChange={setId}
          aria-label="Begin from"
          className="max-h-[46vh] overflow-y-auto border-r pr-2"
        >
          {starters.data?.map((one, place) => (
            <div key={one.id}>
              {one.family !== starters.data[place - 1]?.family && (
                <div className="pt-2 text-xs font-semibold text-soft">{one.family}</div>
              )}
              <RadioGroup.Item
                value={one.id}
                className="block w-full rounded-card px-2 py-0.5 text-left data-[state=checked]:bg-seawash data-[state=checked]:font-semibold"
              >
                {one.title}
              </RadioGroup.Item>
            </div>
          ))}
        </RadioGroup.Root>
        <div className="flex flex-col gap-3">
          {starter && <About starter={starter} />}
          <div className="mt-auto grid grid-cols-2 gap-3">
            <label className="flex flex-col gap-1">
              Name
              <input
                className="field"
                autoFocus
                required
                maxLength={80}
                value={name}
                onFocus={(event) => event.target.select()}
                onChange={(event) => setNamed(event.target.value)}
              />
            </label>
            <label className="flex flex-col gap-1">
              Underlying
              <select
                className="field"
                value={chosen}
                onChange={(event) => setUnderlying(event.target.value)}
              >
                {fitting?.map((row) => (
                  <option key={row.symbol} value={row.symbol}>
                    {row.symbol}, {row.name}
                  </option>
                ))}
              </select>
            </label>
          </div>
          <ErrorNote error={create.error ?? starters.error} />
          <button
            type="submit"
            className="button primary self-end"
            disabled={create.isPending || !chosen || !starter}
          >
            Write it
          </button>
        </div>
      </form>
    </Window>
  );
}

function About({ starter }: { starter: Starter }) {
  return (
    <section aria-label={starter.title} className="flex flex-col gap-2">
      <ol className="font-serif text-lead">
        {starter.sentences.map((sentence) => (
          <li key={sentence.number} className="grid grid-cols-[--spacing(7)_1fr] items-baseline">
            <span className="font-sans text-xs text-soft">{sentence.number}</span>
            <span>{sentence.text}</span>
          </li>
        ))}
      </ol>
      <p>
        <b className="font-semibold text-gain">Lives from.</b> {starter.lives}
      </p>
      <p>
        <b className="font-semibold text-loss">Hurt by.</b> {starter.hurts}
      </p>
    </section>
  );
}
