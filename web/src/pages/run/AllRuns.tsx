import { useState } from "react";
import { Link } from "react-router";
import { useFigureWords } from "../../api/queries";
import { date, number, percent, plural, signed, signedPercent, tone } from "../../ui/format";
import { Th } from "../../ui/Th";
import type { RunRow } from "../strategy/types";

const MOST = 8;
type Value = number | null | undefined;

/** Figures in the list. */
const COLUMNS = [
  { id: "trades_count", title: "Trades", text: (value: Value) => number(value), toned: false },
  { id: "cagr", title: "CAGR", text: (value: Value) => signedPercent(value), toned: true },
  { id: "max_drawdown", title: "Drawdown", text: (value: Value) => signedPercent(value), toned: false },
  { id: "mar", title: "MAR", text: (value: Value) => number(value, 2), toned: false },
  { id: "sharpe", title: "Sharpe", text: (value: Value) => number(value, 2), toned: false },
  { id: "trades_win_rate", title: "Won", text: (value: Value) => percent(value, 0), toned: false },
  { id: "trades_expectancy", title: "A trade", text: (value: Value) => signed(value), toned: true },
] as const;

interface Props {
  runs: RunRow[];
  look: (number: number) => void;
}

/** Every run of a strategy with its main figures: found by its words, chosen for a comparison. */
export function AllRuns({ runs, look }: Props) {
  const [sought, setSought] = useState("");
  const [archived, setArchived] = useState(false);
  const [chosen, setChosen] = useState<number[]>([]);
  const words = useFigureWords();
  const old = runs.filter((run) => run.archived).length;
  const shown = runs.filter((run) => (archived || !run.archived) && matches(run, sought));
  const baseline = runs.find((run) => run.baseline);
  const compared = runs.filter((run) => chosen.includes(run.id)).map((run) => run.id);
  // what others are compared with comes first
  const inOrder = compared.toSorted((a, b) => Number(b === baseline?.id) - Number(a === baseline?.id));
  const toggle = (id: number) =>
    setChosen(chosen.includes(id) ? chosen.filter((item) => item !== id) : [...chosen, id]);

  return (
    <section className="flex flex-col gap-2" aria-label="All runs">
      <div className="flex flex-wrap items-center gap-3">
        <input
          className="field w-64"
          type="search"
          placeholder="name, tag, note, values…"
          aria-label="Find a run"
          value={sought}
          onChange={(event) => setSought(event.target.value)}
        />
        {old > 0 && (
          <label className="flex items-center gap-1.5">
            <input
              type="checkbox"
              checked={archived}
              onChange={(event) => setArchived(event.target.checked)}
            />
            with {plural(old, "archived run")}
          </label>
        )}
        <span className="text-soft">
          {shown.length === runs.length
            ? plural(runs.length, "run")
            : `${number(shown.length)} of ${number(runs.length)}`}
        </span>
        <span className="ml-auto">
          {inOrder.length > 1 ? (
            <Link className="button" to={`/compare?${inOrder.map((id) => `run=${id}`).join("&")}`}>
              Compare {number(inOrder.length)}
            </Link>
          ) : (
            <span className="text-soft">Tick two to eight to compare them.</span>
          )}
        </span>
      </div>
      <div className="card overflow-x-auto">
        <table className="w-full min-w-200">
          <thead>
            <tr className="border-b text-left text-xs text-soft">
              <Th className="px-3 py-1">
                <span className="sr-only">compare</span>
              </Th>
              <Th className="py-1">Run</Th>
              <Th className="px-2">Period</Th>
              {COLUMNS.map(({ id, title }) => (
                <Th key={id} className="number px-2" title={words(id)}>
                  {title}
                </Th>
              ))}
            </tr>
          </thead>
          <tbody>
            {shown.map((run) => (
              <Row
                key={run.id}
                run={run}
                chosen={chosen.includes(run.id)}
                full={chosen.length >= MOST}
                toggle={() => toggle(run.id)}
                open={() => look(run.number)}
              />
            ))}
          </tbody>
        </table>
        {shown.length === 0 && <p className="px-3 py-4 text-soft">No run has these words.</p>}
      </div>
    </section>
  );
}

function matches(run: RunRow, sought: string): boolean {
  const said = [
    `run ${run.number}`,
    run.name,
    run.note,
    run.variant,
    `revision ${run.revision}`,
    ...run.tags,
  ];
  const text = said.join(" ").toLowerCase();
  return sought
    .toLowerCase()
    .split(/\s+/)
    .every((word) => text.includes(word));
}

interface RowProps {
  run: RunRow;
  chosen: boolean;
  full: boolean;
  toggle: () => void;
  open: () => void;
}

function Row({ run, chosen, full, toggle, open }: RowProps) {
  const { figures } = run;
  return (
    <tr className={`border-b border-line align-top hover:bg-mark ${run.archived ? "text-soft" : ""}`}>
      <td className="px-3 py-1">
        <input
          type="checkbox"
          aria-label={`Compare run ${run.number}`}
          checked={chosen}
          disabled={!figures || (full && !chosen)}
          onChange={toggle}
        />
      </td>
      <td className="py-1">
        <button type="button" className="link font-medium" onClick={open}>
          Run {run.number}
        </button>
        {run.name && <span className="ml-2">{run.name}</span>}
        {run.baseline && <span className="pill ml-2">baseline</span>}
        {run.archived && <span className="pill ml-2">archived</span>}
        {run.tags.map((tag) => (
          <span key={tag} className="pill ml-2">
            {tag}
          </span>
        ))}
        <div className="text-xs text-soft">
          revision {run.revision}
          {run.variant && `, ${run.variant}`}
          {run.outdated && ", outdated"}
          {run.status !== "done" && ` · ${run.status}`}
        </div>
      </td>
      <td className="px-2 py-1 whitespace-nowrap">
        {date(run.start)} – {date(run.end)}
      </td>
      {COLUMNS.map(({ id, text, toned }) => (
        <td key={id} className={`number px-2 py-1 ${toned ? tone(figures?.[id]) : ""}`}>
          {text(figures?.[id])}
        </td>
      ))}
    </tr>
  );
}
