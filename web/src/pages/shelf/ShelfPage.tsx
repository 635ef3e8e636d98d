import { DropdownMenu } from "radix-ui";
import { useRef } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import {
  useCreateStrategy,
  useDeleteStrategy,
  useDuplicate,
  useRestoreStrategy,
  useStrategies,
} from "../../api/queries";
import { number, percent, plural, signed, signedPercent } from "../../ui/format";
import { LegGlyph } from "../../ui/LegGlyph";
import { MenuItem } from "../../ui/MenuItem";
import { Empty, ErrorNote, Skeleton, Spark } from "../../ui/parts";
import { TrackDots } from "../../ui/Track";
import { tell, tellError } from "../../ui/toast";
import { NewStrategy } from "./NewStrategy";
import { DataCard, WorkCard } from "./ShelfCards";

type Row = Schemas["StrategyRow"];

const COLUMNS =
  "grid grid-cols-[minmax(--spacing(42.5),1fr)_--spacing(28)_--spacing(65)_--spacing(40)_--spacing(15)_--spacing(21)_--spacing(14)_minmax(--spacing(37.5),0.9fr)_--spacing(7)] items-center gap-x-3 px-3.5";

function now(row: Row): string {
  const track = row.track;
  if (track.last_status === "running" || track.last_status === "queued") return "a run is under way";
  if (track.last_status === "interrupted") return "its last run was interrupted: go on?";
  if (track.runs === 0) return "no run yet: preview it first";
  if (track.outdated > 0) return `${plural(track.outdated, "run")} outdated by revision ${row.revision}`;
  if (track.latest_note) return `replay “${track.latest_note}” has a note`;
  return "";
}

function RowMenu({ row }: { row: Row }) {
  const go = useNavigate();
  const duplicate = useDuplicate();
  const remove = useDeleteStrategy();
  const restore = useRestoreStrategy();
  const copy = (mirror: boolean) =>
    duplicate.mutate(
      { id: row.id, mirror },
      { onSuccess: (made) => go(`/strategies/${made.id}/rules`), onError: tellError },
    );
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        className="px-1 text-head text-soft hover:text-ink"
        aria-label={`More for ${row.name}`}
      >
        ⋯
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content className="popover min-w-44 py-1" align="end">
          <MenuItem onSelect={() => copy(false)}>Duplicate</MenuItem>
          <MenuItem onSelect={() => copy(true)}>Mirror into a new one</MenuItem>
          <MenuItem onSelect={() => window.location.assign(`/api/strategies/${row.id}/file`)}>
            Save as a file
          </MenuItem>
          <MenuItem
            onSelect={() =>
              remove.mutate(row.id, {
                onSuccess: () =>
                  tell(`${row.name} is deleted, with its runs and replays.`, {
                    label: "Undo",
                    run: () => restore.mutate(row.id, { onError: tellError }),
                  }),
                onError: tellError,
              })
            }
          >
            Delete
          </MenuItem>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

function ShelfRow({ row }: { row: Row }) {
  const track = row.track;
  return (
    <div role="row" className={`${COLUMNS} h-16.5 border-b last:border-b-0 hover:bg-shade/50`}>
      <div role="cell" className="min-w-0">
        <Link
          to={`/strategies/${row.id}/rules`}
          className="block truncate font-serif text-section font-semibold"
        >
          {row.name}
        </Link>
        <span className="text-xs text-soft">
          {row.underlyings.join(", ")} · revision {row.revision}
        </span>
      </div>
      <div role="cell">
        <LegGlyph glyph={row.glyph} />
      </div>
      <div role="cell">
        <TrackDots track={track} sentences={row.sentences} />
      </div>
      <div role="cell">
        <Spark values={track.spark} />
      </div>
      <div role="cell" className="number font-medium">
        {track.trades === null ? "" : signed(track.mar, 2)}
      </div>
      <div role="cell" className="number text-loss">
        {track.trades === null ? "" : signedPercent(track.max_drawdown)}
      </div>
      <div role="cell" className="number">
        {track.trades === null ? "" : percent(track.win_rate, 0)}
      </div>
      <div role="cell" className="text-xs text-soft">
        {now(row)}
      </div>
      <div role="cell">
        <RowMenu row={row} />
      </div>
    </div>
  );
}

/** The shelf: every strategy with what its stages have to show. */
export function ShelfPage() {
  const strategies = useStrategies();
  const create = useCreateStrategy();
  const go = useNavigate();
  const [query, setQuery] = useSearchParams();
  const file = useRef<HTMLInputElement>(null);

  async function openFile(chosen: File | undefined) {
    if (!chosen) return;
    if (chosen.size > 200_000)
      return tell("A strategy file is at most 200 kB; this one is larger.", undefined, true);
    const text = await chosen.text();
    create.mutate(
      { text },
      {
        onSuccess: (made) => go(`/strategies/${made.id}/rules`),
        onError: (error) => tell(`${chosen.name} was not opened. ${error.message}`, undefined, true),
      },
    );
  }

  return (
    <div className="mx-auto max-w-375 px-4.5 pt-4 pb-8">
      <div className="mb-3 flex items-center gap-3">
        <h1 className="text-figure font-semibold">Strategies</h1>
        {strategies.data && <span className="pill">{number(strategies.data.length)}</span>}
        <span className="flex-1" />
        <input
          ref={file}
          type="file"
          accept=".yaml,.yml,.json"
          className="hidden"
          aria-label="Strategy file"
          onChange={(event) => {
            openFile(event.target.files?.[0]);
            event.target.value = "";
          }}
        />
        <button type="button" className="button" onClick={() => file.current?.click()}>
          Open a file…
        </button>
        <button type="button" className="button primary" onClick={() => setQuery({ new: "" })}>
          New strategy
        </button>
      </div>
      <ErrorNote error={strategies.error} onRetry={() => strategies.refetch()} />
      <div className="card overflow-x-auto" role="table" aria-label="Strategies">
        <div className="min-w-280">
          <div role="row" className={`${COLUMNS} h-8 border-b text-xs text-soft`}>
            {["Name", "Legs", "Track", "Last run"].map((title) => (
              <span role="columnheader" key={title}>
                {title}
              </span>
            ))}
            {["MAR", "Drawdown", "Won"].map((title) => (
              <span role="columnheader" key={title} className="number">
                {title}
              </span>
            ))}
            <span role="columnheader">Now</span>
            <span role="columnheader" aria-label="More" />
          </div>
          {strategies.isPending && [1, 2, 3].map((row) => <Skeleton key={row} className="m-3 h-10" />)}
          {strategies.data?.map((row) => (
            <ShelfRow key={row.id} row={row} />
          ))}
        </div>
        {strategies.data?.length === 0 && (
          <Empty title="Your strategies will stand here.">
            A strategy is a page of sentences: when to enter, which legs, how many, when to leave.{" "}
            <button type="button" className="link" onClick={() => setQuery({ new: "" })}>
              Write the first one
            </button>
            , or open a file.
          </Empty>
        )}
      </div>
      <div className="mt-3 grid grid-cols-2 gap-3">
        <WorkCard />
        <DataCard />
      </div>
      <NewStrategy open={query.has("new")} onOpenChange={(open) => open || setQuery({})} />
    </div>
  );
}
