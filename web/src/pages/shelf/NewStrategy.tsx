import { type FormEvent, useState } from "react";
import { useNavigate } from "react-router";
import { useCreateStrategy, useUnderlyings } from "../../api/queries";
import { Window } from "../../ui/Dialog";
import { ErrorNote } from "../../ui/parts";

/** The shortest page of sentences that can run; everything on it is meant to be changed. */
function starter(name: string, underlying: string) {
  return {
    name,
    underlyings: [underlying],
    entries: [
      {
        when: [{ rule: "decision_times" }],
        conditions: [{ rule: "open_limit" }],
        legs: [{ rule: "leg", strike: { pick: "nearest_delta" }, expiry: { pick: "nearest_days" } }],
        size: [{ rule: "fixed_lots" }],
      },
    ],
    leave: [{ rule: "credit_target" }, { rule: "premium_stop" }, { rule: "before_expiration" }],
    orders: [
      { rule: "fill_model" },
      { rule: "commission" },
      { rule: "single_snapshots" },
      { rule: "doubtful_marks" },
    ],
  };
}

export function NewStrategy({
  open,
  onOpenChange,
}: {
  open: boolean;
  onOpenChange: (open: boolean) => void;
}) {
  const underlyings = useUnderlyings();
  const create = useCreateStrategy();
  const go = useNavigate();
  const [name, setName] = useState("");
  const [underlying, setUnderlying] = useState("");
  const chosen = underlying || underlyings.data?.[0]?.symbol || "";

  function submit(event: FormEvent) {
    event.preventDefault();
    create.mutate(
      { document: starter(name, chosen) },
      {
        onSuccess: (made) => {
          setName("");
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
      about="It starts with one short put and common exits; change every value in place, add sentences and legs."
      width="max-w-md"
    >
      <form onSubmit={submit} className="flex flex-col gap-3">
        <label className="flex flex-col gap-1">
          Name
          <input
            className="field"
            autoFocus
            required
            maxLength={80}
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </label>
        <label className="flex flex-col gap-1">
          Underlying
          <select className="field" value={chosen} onChange={(e) => setUnderlying(e.target.value)}>
            {underlyings.data?.map((row) => (
              <option key={row.symbol} value={row.symbol}>
                {row.symbol}, {row.name}
              </option>
            ))}
          </select>
        </label>
        <ErrorNote error={create.error} />
        <button type="submit" className="button primary self-end" disabled={create.isPending || !chosen}>
          Write it
        </button>
      </form>
    </Window>
  );
}
