import { useMemo, useState } from "react";
import { useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { useTerms, useTrade } from "../../api/queries";
import { useStartReplay } from "../../api/replay";
import { CauseChart, LegVolChart } from "../../charts/CauseCharts";
import { PathChart } from "../../charts/PathChart";
import { PayoffChart } from "../../charts/PayoffChart";
import { DateSlide } from "../../ui/DateSlide";
import { number, plural, signed, tone } from "../../ui/format";
import { useKeys } from "../../ui/keyboard";
import { LegGlyph } from "../../ui/LegGlyph";
import { ErrorNote, Skeleton } from "../../ui/parts";
import { Th } from "../../ui/Th";
import { tellError } from "../../ui/toast";
import type { Run } from "../strategy/types";
import { TradeCauses } from "./Causes";
import { apart } from "./holdings";
import { LegLedger } from "./LegLedger";
import { OtherExits } from "./OtherExits";
import { TradeHistory } from "./TradeHistory";
import { strikes } from "./TradesTable";

const NO_EVENTS: Schemas["TradeEventOut"][] = [];

interface Props {
  run: Run;
  trade: Schemas["TradeRow"];
  underlying: string;
  open: (number: number | null) => void;
}

/** One trade: what opened and closed it, its legs, its path, its payoff on any date. */
export function TradeView({ run, trade, underlying, open }: Props) {
  const [at, setAt] = useState<number | null>(null);
  const [look, setLook] = useState<PathLook>("path");
  const detail = useTrade(run.id, trade.number, at);
  const terms = useTerms(underlying);
  const replay = useStartReplay();
  const go = useNavigate();
  const found = detail.data;
  const numbers = run.trades.map((row) => row.number);
  const several = new Set(run.trades.map((row) => row.symbol)).size > 1;
  const here = numbers.indexOf(trade.number);
  const step = (by: number) => {
    const to = numbers[here + by];
    if (to !== undefined) {
      setAt(null);
      open(to);
    }
  };
  useKeys({ arrowleft: () => step(-1), arrowright: () => step(1), escape: () => open(null) });
  const labels = useMemo(() => apart(found?.legs.map((leg) => leg.label) ?? []), [found]);
  return (
    <section aria-label={`Trade ${trade.number}`} className="flex flex-col gap-3">
      <div className="flex items-center gap-3">
        <button type="button" className="link" onClick={() => open(null)}>
          ‹ all trades
        </button>
        <h2 className="font-sans text-head font-semibold">Trade {trade.number}</h2>
        {found && <LegGlyph glyph={found.glyph} />}
        <span className="truncate text-soft">
          {several && `${underlying} `}
          {strikes(trade)}
        </span>
        <span className={`text-section font-semibold ${tone(trade.pnl)}`}>
          {signed(trade.pnl, 2)} {terms.currency}
        </span>
        <span className="ml-auto flex gap-3">
          <button type="button" className="link" disabled={here <= 0} onClick={() => step(-1)}>
            ‹ earlier
          </button>
          <button
            type="button"
            className="link"
            disabled={here >= numbers.length - 1}
            onClick={() => step(1)}
          >
            later ›
          </button>
          <button
            type="button"
            className="button primary small"
            disabled={replay.isPending}
            onClick={() =>
              replay.mutate(
                { run: run.id, trade: trade.number, cash: run.cash },
                { onSuccess: (session) => go(`/replays/${session.id}`), onError: tellError },
              )
            }
          >
            Replay
          </button>
        </span>
      </div>
      <p className="font-serif text-head">
        Entered {trade.opened_shown} with {plural(trade.dte, "day")} to expiration, left {trade.closed_shown}:{" "}
        {trade.reason}
        {trade.sentence ? ` (sentence ${trade.sentence}).` : "."}
        {trade.also.length > 0 &&
          ` ${plural(trade.also.length, "other exit was", "other exits were")} true as well.`}
      </p>
      {trade.waited && <p className="text-loss">{trade.waited}</p>}
      <ErrorNote error={detail.error} onRetry={() => detail.refetch()} />
      {!found && !detail.error && <Skeleton className="h-72" />}
      {found && (
        <>
          <div className="grid grid-cols-[1.1fr_1fr] gap-3">
            <div className="card p-2">
              <PathLooks causes={found.causes !== null} look={look} show={setLook} />
              {look === "path" || !found.causes ? (
                <PathChart
                  path={found.path}
                  underlying={underlying}
                  currency={found.currency}
                  legs={labels}
                  events={found.events ?? NO_EVENTS}
                  height={216}
                />
              ) : look === "causes" ? (
                <CauseChart causes={found.causes} path={found.path} labels={labels} height={216} />
              ) : (
                <LegVolChart causes={found.causes} path={found.path} labels={labels} height={216} />
              )}
            </div>
            <div className="card p-2">
              <b className="px-1 font-semibold">Payoff, opened {trade.opened_shown}</b>
              <PayoffChart
                payoff={found.payoff}
                currency={found.currency}
                height={180}
                when={at === null ? "at entry" : "on the date below"}
              />
              <DateSlide
                zone={terms.zone}
                from={found.payoff.base}
                to={found.nearest}
                value={at}
                onChange={setAt}
              />
            </div>
          </div>
          {found.causes && <TradeCauses causes={found.causes} legs={found.legs} currency={found.currency} />}
          <OtherExits
            key={trade.number}
            run={run.id}
            trade={trade.number}
            pnl={trade.pnl}
            currency={found.currency}
          />
          <TradeHistory events={found.events} currency={found.currency} />
          <LegLedger legs={found.legs} currency={found.currency} />
          <PathTable path={found.path} labels={labels} />
          <p className="text-xs text-soft">
            Credit {number(trade.credit, 2)}, {number(trade.cost_to_close, 2)} to close, costs{" "}
            {number(trade.costs, 2)} {found.currency}.
          </p>
        </>
      )}
    </section>
  );
}

type PathLook = "path" | "causes" | "vols";
const LOOKS: { id: PathLook; title: string }[] = [
  { id: "path", title: "P/L at mid, before costs" },
  { id: "causes", title: "by cause" },
  { id: "vols", title: "volatility of each leg" },
];

/** What the picture of a trade's course shows. */
function PathLooks({
  causes,
  look,
  show,
}: {
  causes: boolean;
  look: PathLook;
  show: (look: PathLook) => void;
}) {
  return (
    <div className="flex gap-3 px-1">
      {LOOKS.filter((item) => causes || item.id === "path").map((item) => (
        <button
          key={item.id}
          type="button"
          aria-pressed={look === item.id}
          className={look === item.id ? "font-semibold" : "link"}
          onClick={() => show(item.id)}
        >
          {item.title}
        </button>
      ))}
    </div>
  );
}

/** Leg ledger: the trade by time with each leg's mid. */
function PathTable({ path, labels }: { path: Schemas["PathOut"]; labels: string[] }) {
  const [open, setOpen] = useState(false);
  return (
    <section className="card" aria-label="Leg ledger by time">
      <button
        type="button"
        className="link w-full px-3 py-1.5 text-left"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
      >
        {open ? "▾" : "▸"} Leg ledger, {plural(path.at.length, "snapshot")}
      </button>
      {open && (
        <div className="max-h-72 overflow-auto border-t">
          <table className="plain">
            <thead>
              <tr>
                <Th>Time</Th>
                <Th className="number">Underlying</Th>
                {labels.map((label) => (
                  <Th key={label} className="number">
                    {label}
                  </Th>
                ))}
                <Th className="number">P/L</Th>
              </tr>
            </thead>
            <tbody>
              {path.local.map((local, i) => (
                <tr key={local}>
                  <td>{local.replace("T", " ")}</td>
                  <td className="number">{number(path.spot[i], 2)}</td>
                  {labels.map((label, k) => (
                    <td key={label} className="number">
                      {path.legs[k]?.[i] == null ? "" : number(path.legs[k]?.[i], 3)}
                    </td>
                  ))}
                  <td className={`number ${tone(path.pnl[i])}`}>{signed(path.pnl[i], 2)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
