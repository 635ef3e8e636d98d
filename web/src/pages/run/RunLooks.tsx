import { useMemo, useState } from "react";
import type { Schemas } from "../../api/client";
import type { Document } from "../../api/queries";
import { useSlices } from "../../api/runs";
import { EquityChart } from "../../charts/EquityChart";
import { ErrorNote, Skeleton } from "../../ui/parts";
import type { Run } from "../strategy/types";
import { Chosen } from "./Chosen";
import { Course } from "./Course";
import { Held } from "./HeldBack";
import { Luck } from "./Luck";
import { OpenTrades } from "./OpenTrades";
import { RunFigures } from "./RunFigures";
import { Slices } from "./Slices";
import { TradesTable } from "./TradesTable";
import { useChoices } from "./useChoices";
import { WhyNot } from "./WhyNot";

const LOOKS = [
  { id: "trades", title: "Curve and trades" },
  { id: "slices", title: "Slices" },
  { id: "course", title: "Months and causes" },
  { id: "why-not", title: "Why not" },
  { id: "luck", title: "Luck" },
];

interface Props {
  run: Run;
  figures: Schemas["FiguresOut"];
  underlying: string;
  currency: string;
  /** The strategy's sheet as it is now. */
  document: Document;
  save: (document: Document) => Promise<unknown>;
  openTrade: (number: number) => void;
}

/** A finished run, looked at in several ways; slices that are chosen hold in all of them. */
export function RunLooks({ run, figures, underlying, currency, document, save, openTrade }: Props) {
  const choices = useChoices();
  const [stretch, setStretch] = useState<{ from: string; to: string } | null>(null);
  const sliced = choices.look === "slices" || choices.chosen.length > 0;
  const slices = useSlices(run.id, choices.chosen, choices.measures, sliced);
  const trades = useMemo(() => {
    if (choices.chosen.length === 0 || !slices.data) return run.trades;
    const left = new Set(slices.data.trades);
    return run.trades.filter((trade) => left.has(trade.number));
  }, [run.trades, slices.data, choices.chosen.length]);
  const look = LOOKS.some((item) => item.id === choices.look) ? choices.look : "trades";

  return (
    <>
      <RunFigures
        figures={figures}
        intervals={run.intervals}
        currency={currency}
        underlying={underlying}
        openTrade={openTrade}
        showStretch={(from, to) => {
          choices.show("trades");
          setStretch(stretch?.from === from && stretch.to === to ? null : { from, to });
        }}
      />
      {run.held && <Held held={run.held} currency={currency} />}
      <div className="flex gap-2" role="tablist" aria-label="Ways to look at the run">
        {LOOKS.map((item) => (
          <button
            key={item.id}
            type="button"
            role="tab"
            aria-selected={look === item.id}
            className={`border-b-2 px-1 pb-0.5 font-medium ${look === item.id ? "border-sea text-ink" : "border-transparent text-sea"}`}
            onClick={() => choices.show(item.id)}
          >
            {item.title}
          </button>
        ))}
      </div>
      {sliced && <ErrorNote error={slices.error} onRetry={() => slices.refetch()} />}
      {choices.chosen.length > 0 && slices.data && (
        <Chosen found={slices.data} choices={choices} currency={currency} document={document} save={save} />
      )}
      {look === "trades" && (
        <div className="grid gap-3 vast:grid-cols-2">
          <section className="card min-w-0 px-2 pt-2" aria-label="Equity">
            <EquityChart
              curve={run.curve}
              underlying={underlying}
              currency={currency}
              stretch={stretch}
              cuts={run.extended}
              held={run.held?.since}
              onDate={(at) => {
                const near = trades.findLast((row) => row.opened.slice(0, 10) <= at);
                if (near) openTrade(near.number);
              }}
            />
          </section>
          <div className="flex min-w-0 flex-col gap-2">
            <OpenTrades trades={run.open_trades} currency={currency} />
            <TradesTable run={run} trades={trades} open={openTrade} />
          </div>
        </div>
      )}
      {look === "slices" &&
        (slices.data ? (
          <>
            <Slices
              found={slices.data}
              trades={trades}
              currency={currency}
              choices={choices}
              openTrade={openTrade}
            />
            <TradesTable run={run} trades={trades} open={openTrade} />
          </>
        ) : (
          !slices.error && <Skeleton className="h-80" />
        ))}
      {look === "course" && <Course run={run} currency={currency} />}
      {look === "why-not" && <WhyNot run={run} />}
      {look === "luck" && <Luck run={run} currency={currency} />}
    </>
  );
}
