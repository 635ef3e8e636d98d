import { DropdownMenu } from "radix-ui";
import type { Schemas } from "../../api/client";
import { ago, number, plural } from "../../ui/format";
import { MenuItem } from "../../ui/MenuItem";
import type { Run, RunRow } from "../strategy/types";

const FILES = [
  { what: "trades", title: "Trades" },
  { what: "equity", title: "Equity by day" },
  { what: "decisions", title: "Decisions" },
  { what: "history", title: "History of every trade" },
  { what: "greeks", title: "Greeks by day" },
];

/** What of a run goes out as a file. */
export function Export({ run }: { run: Run }) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="link" aria-label={`Export run ${run.number}`}>
        Export
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content className="popover min-w-40 py-1" align="end" sideOffset={6}>
          <MenuItem onSelect={() => window.location.assign(`/api/runs/${run.id}/report.html`)}>
            Report on paper, HTML
          </MenuItem>
          {FILES.flatMap(({ what, title }) =>
            ["csv", "json", "parquet"].map((kind) => (
              <MenuItem
                key={what + kind}
                onSelect={() => window.location.assign(`/api/runs/${run.id}/${what}.${kind}`)}
              >
                {title} as {kind === "parquet" ? "Parquet" : kind.toUpperCase()}
              </MenuItem>
            )),
          )}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

/** Which run is looked at. */
export function RunSelect({
  runs,
  run,
  look,
}: {
  runs: RunRow[];
  run: Run | undefined;
  look: (number: number) => void;
}) {
  const offered = runs.filter((row) => !row.archived || row.id === run?.id);
  return (
    <select
      className={`field ${run ? "max-w-72 font-semibold" : "w-24"}`}
      aria-label="Run"
      value={run?.number ?? ""}
      onChange={(event) => event.target.value && look(Number(event.target.value))}
    >
      {!run && <option value="">runs…</option>}
      {offered.map((row) => (
        <option key={row.id} value={row.number}>
          Run {row.number}
          {row.name ? ` “${row.name}”` : ""} · revision {row.revision}
          {row.variant ? `, ${row.variant}` : ""}
          {row.outdated ? ", outdated" : ""} · {row.status === "done" ? ago(row.queued_at) : row.status}
        </option>
      ))}
    </select>
  );
}

interface SweepSelectProps {
  sweeps: Schemas["SweepRow"][];
  named: string | null;
  look: (number: number) => void;
}

/** Which sweep is looked at. */
export function SweepSelect({ sweeps, named, look }: SweepSelectProps) {
  return (
    <select
      className={`field ${named === null ? "w-24" : "max-w-72 font-semibold"}`}
      aria-label="Sweep"
      value={named ?? ""}
      onChange={(event) => event.target.value && look(Number(event.target.value))}
    >
      {named === null && <option value="">{plural(sweeps.length, "sweep")}…</option>}
      {sweeps.map((row) => (
        <option key={row.id} value={row.number}>
          Sweep {row.number} · {row.dials.map((dial) => dial.label).join(" × ")}, {number(row.cells_count)} ·{" "}
          {row.status === "done" ? ago(row.queued_at) : row.status}
        </option>
      ))}
    </select>
  );
}
