import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useNavigate, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { stripOf, useRuns } from "../../api/queries";
import { useStartReplay } from "../../api/replay";
import { PayoffChart } from "../../charts/PayoffChart";
import { DateField } from "../../ui/DateField";
import { level, number, percent, price, signed, tone } from "../../ui/format";
import { LegGlyph } from "../../ui/LegGlyph";
import { ErrorNote, Figure, Skeleton } from "../../ui/parts";
import { tellError } from "../../ui/toast";
import { Candidates } from "./Candidates";
import { DecisionStrip } from "./DecisionStrip";
import type { Decided, Preview, Strategy } from "./types";

interface Props {
  strategy: Strategy;
  at: string | null;
  /** The strategy's last finished run. */
  run: Decided | undefined;
  preview: { data?: Preview; error: unknown; isPending: boolean };
}

/** What the rules would do at an instant: verdicts, candidates, structure, payoff. */
export function RulesEvidence({ strategy, at, run, preview }: Props) {
  const [query, setQuery] = useSearchParams();
  const entry = query.get("entry");
  const goTo = (instant: string) => setQuery({ at: instant, ...(entry && { entry }) }, { replace: true });
  const choose = (name: string) => setQuery({ ...(at && { at }), entry: name }, { replace: true });
  const found = preview.data;
  return (
    <div className="flex flex-col gap-3">
      <div className="flex flex-wrap items-center gap-3">
        <h2 className="font-sans text-head font-semibold">What the rules would do</h2>
        <InstantField shown={found?.local ?? at ?? ""} onChange={goTo} />
        <Neighbour label="‹ decision before" to={found?.neighbours.before} go={goTo} />
        <Neighbour label="next decision ›" to={found?.neighbours.after} go={goTo} />
        {found && <ReplayFromHere strategy={strategy.id} at={found.local} />}
        <span className="ml-auto text-xs text-soft">
          {found && `${found.zone}, answered in ${number(found.took)} ms`}
        </span>
      </div>
      <ErrorNote error={preview.error} />
      <Strip strategy={strategy} run={run} at={found?.at} go={goTo} />
      {found && found.entries.length > 1 && <Entries preview={found} choose={choose} />}
      {!found && preview.isPending && <Skeleton className="h-96" />}
      {found && !preview.error && <Answer preview={found} strategy={strategy} />}
    </div>
  );
}

/** Every decision of the rules as they stand: their run's where there is one, else computed for this revision. What was
 * shown stays until it has been. */
function Strip({
  strategy,
  run,
  at,
  go,
}: {
  strategy: Strategy;
  run: Decided | undefined;
  at?: number;
  go: (at: string) => void;
}) {
  const own = run && !run.outdated ? run : undefined;
  const ran = useRuns(strategy.id);
  const asked = useQuery({
    ...stripOf(strategy.id, strategy.revision),
    // a run that is there may be of these very rules
    enabled: !own && ran.data !== undefined && (run !== undefined || !ran.data.some(finished)),
    placeholderData: keepPreviousData,
  });
  const told = own ? undefined : asked.data;
  const decisions = (own ?? told ?? run)?.decisions;
  if (asked.error && !decisions) return <ErrorNote error={asked.error} onRetry={() => asked.refetch()} />;
  if (!decisions) return <Skeleton className="h-20" />;
  if (decisions.length === 0) return null;
  const of = own ? `run ${own.number}` : told ? `revision ${told.revision}` : `run ${run?.number}`;
  const old = own ? false : told ? told.revision !== strategy.revision : true;
  const aside = old ? (asked.isFetching ? "being told anew…" : "of an older revision") : "";
  return <DecisionStrip decisions={decisions} of={of} aside={aside} at={at} go={go} />;
}

const finished = (run: Schemas["RunRow"]) => run.status === "done" && !run.variant;

/** What each entry says at this instant, and which one is shown. */
function Entries({ preview, choose }: { preview: Preview; choose: (entry: string) => void }) {
  return (
    <fieldset className="flex flex-wrap gap-1.5" aria-label="Entries">
      {preview.entries.map((entry) => (
        <button
          key={entry.id}
          type="button"
          className="pill"
          aria-pressed={entry.id === preview.entry}
          onClick={() => choose(entry.id)}
        >
          {entry.id}: {entry.enters ? "enters" : "says no"}
          {entry.due ? "" : ", not due"}
        </button>
      ))}
    </fieldset>
  );
}

/** An empty account at this instant, to try by hand what the rules would do. */
function ReplayFromHere({ strategy, at }: { strategy: number; at: string }) {
  const start = useStartReplay();
  const go = useNavigate();
  return (
    <button
      type="button"
      className="link"
      disabled={start.isPending}
      onClick={() =>
        start.mutate(
          { strategy, at, cash: 50_000 },
          { onSuccess: (session) => go(`/replays/${session.id}`), onError: tellError },
        )
      }
    >
      Replay from here
    </button>
  );
}

function InstantField({ shown, onChange }: { shown: string; onChange: (text: string) => void }) {
  return <DateField time label="Date and time" value={shown} onChange={onChange} />;
}

function Neighbour({
  label,
  to,
  go,
}: {
  label: string;
  to: string | null | undefined;
  go: (at: string) => void;
}) {
  return (
    <button type="button" className="link" disabled={!to} onClick={() => to && go(to)}>
      {label}
    </button>
  );
}

function headline(preview: Preview): string {
  const closed = preview.asked
    ? `No session was open ${preview.asked}; the last snapshot before is this one. `
    : "";
  const when = `${closed}${preview.shown}, ${preview.status_text}. `;
  if (preview.status === "policy") return `${when}Nothing is entered.`;
  if (preview.enters) return `${when}They enter.`;
  const no = preview.verdicts.find((verdict) => verdict.id === preview.said_no);
  return no
    ? `${when}Nothing is entered: sentence ${no.number} says no (${no.text})${preview.last_true ? `, ${preview.last_true}` : ""}.`
    : `${when}Nothing is entered.`;
}

function Answer({ preview, strategy }: { preview: Preview; strategy: Strategy }) {
  const structure = preview.structure;
  return (
    <>
      <p className="font-serif text-head" role="status">
        {headline(preview)}
      </p>
      <div className="grid grid-cols-[1.05fr_1fr] gap-3">
        <Candidates legs={preview.legs} sheet={strategy.sheet} />
        <section className="card px-3 pt-2 pb-2" aria-label="Picked structure">
          {structure ? (
            <>
              <div className="flex items-center gap-3">
                <b className="font-semibold">Picked</b>
                <LegGlyph glyph={structure.glyph} />
                <span className="text-soft">
                  {structure.lots === 1 ? "1 lot" : `${structure.lots} lots`}, {preview.symbol}{" "}
                  {level(preview.spot)}
                </span>
              </div>
              <PayoffChart payoff={structure.payoff} currency={structure.currency} height={212} />
            </>
          ) : (
            <p className="py-8 text-center text-soft">Without all legs there is no payoff.</p>
          )}
        </section>
      </div>
      {structure && <StructureFigures structure={structure} spot={preview.spot} />}
      <Verdicts preview={preview} />
    </>
  );
}

function StructureFigures({ structure, spot }: { structure: Schemas["StructureOut"]; spot: number }) {
  const { payoff, greeks, credit, currency } = structure;
  const edges = payoff.break_evens;
  const away = edges.map((edge) => signed((100 * edge) / spot - 100, 1)).join(" to ");
  const unbounded = "unbounded";
  return (
    <section className="card grid grid-cols-7 gap-4 px-4 py-2.5" aria-label="Figures of the structure">
      <Figure
        label={credit >= 0 ? "Credit" : "Debit"}
        value={signed(credit, 2)}
        tone={tone(credit)}
        note={`${currency}, at fill prices`}
      />
      <Figure
        label="At best"
        value={payoff.max_profit === null ? unbounded : signed(payoff.max_profit)}
        tone="text-gain"
        note={`${currency}, at expiration`}
        title={payoff.found}
      />
      <Figure
        label="At worst"
        value={payoff.max_loss === null ? unbounded : signed(payoff.max_loss)}
        tone="text-loss"
        note={payoff.max_loss === null ? "no leg caps it" : `${currency}, at expiration`}
        title={payoff.found}
      />
      <Figure
        label="Break-even"
        value={edges.length ? edges.map(price).join("–") : "none"}
        note={edges.length ? `${away} %` : ""}
      />
      <Figure
        label="Ends in profit"
        value={percent(payoff.chance_of_profit, 0)}
        note={
          payoff.expected === null
            ? "implied, lognormal"
            : `on average ${signed(payoff.expected)} ${currency}`
        }
        title="Under the distribution that the quotes of the nearest expiration imply, before costs"
      />
      <Figure label="Delta" value={signed(greeks.delta, 1)} note={`${currency} a point`} />
      <Figure label="Theta" value={signed(greeks.theta)} note={`${currency} a day`} />
    </section>
  );
}

function Verdicts({ preview }: { preview: Preview }) {
  return (
    <section className="card px-4 py-2.5" aria-label="Sentences, one by one">
      <h3 className="mb-1 font-semibold">Sentences, one by one</h3>
      {preview.verdicts.length === 0 && <p className="text-soft">No sentence sets a condition.</p>}
      <ol>
        {preview.verdicts.map((verdict) => (
          <li
            key={verdict.id}
            className={`grid grid-cols-[--spacing(7)_1fr_1fr_--spacing(17.5)] gap-2 py-0.5 ${verdict.id === preview.said_no ? "-mx-4 bg-mark px-4" : ""}`}
          >
            <span className="text-soft">{verdict.number}</span>
            <span className="truncate" title={verdict.sentence}>
              {verdict.sentence}
            </span>
            <span className="truncate text-soft">{verdict.text}</span>
            <span className={`number font-medium ${verdict.truth === "true" ? "text-sea" : "text-loss"}`}>
              {verdict.truth}
            </span>
          </li>
        ))}
      </ol>
    </section>
  );
}
