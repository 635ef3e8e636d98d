import { useQueryClient } from "@tanstack/react-query";
import { type DragEvent, useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { type Holdings, type Intake, send, useHoldings, useIntakes, useOthers } from "../../api/data";
import { keys } from "../../api/keys";
import { renew } from "../../api/push";
import { ago, date, number, plural } from "../../ui/format";
import { Empty, ErrorNote, Progress, Skeleton } from "../../ui/parts";
import { tellError } from "../../ui/toast";
import { Calendars } from "./Calendars";
import { CoverageView } from "./CoverageView";
import { IntakeView } from "./IntakeView";

/** What data there is, and the way in for more. */
export function DataPage() {
  const { symbol, intake } = useParams();
  const holdings = useHoldings();
  const intakes = useIntakes();
  const most = [...(holdings.data ?? [])].sort((a, b) => b.sessions - a.sessions)[0];
  const chosen = symbol ?? (intake ? undefined : most?.symbol);
  const file = intakes.data?.find((row) => String(row.id) === intake);
  return (
    <div className="grid h-[calc(100vh_-_--spacing(10))] grid-cols-[--spacing(75)_minmax(0,1fr)] gap-3 px-4.5 py-3">
      <div className="flex min-h-0 flex-col gap-3 overflow-y-auto">
        <h1 className="text-figure font-semibold">Data</h1>
        <Way />
        <section className="card shrink-0" aria-label="Underlyings">
          {holdings.error && <ErrorNote error={holdings.error} onRetry={() => holdings.refetch()} />}
          {!holdings.data && !holdings.error && <Skeleton className="h-24" />}
          {holdings.data?.map((row) => (
            <Row key={row.symbol} row={row} chosen={row.symbol === chosen} />
          ))}
        </section>
        <Others />
        <Calendars />
        {intakes.data && intakes.data.length > 0 && (
          <section className="card shrink-0" aria-label="Files">
            <p className="border-b px-3 py-1.5 text-xs text-soft">Files, the latest first</p>
            {intakes.data.map((row) => (
              <FileRow key={row.id} row={row} chosen={row.id === file?.id} />
            ))}
          </section>
        )}
      </div>
      <div className="min-h-0 overflow-y-auto">
        {file ? (
          <IntakeView key={file.id} intake={file} />
        ) : intake && intakes.data ? (
          <Empty title="This file is not in the list any more." />
        ) : chosen ? (
          <CoverageView key={chosen} symbol={chosen} />
        ) : holdings.data ? (
          <Empty title="No data yet.">
            Drop a file of option chains on the left: CSV, also packed with gzip or zstd, or Parquet.
          </Empty>
        ) : (
          <Skeleton className="h-[70vh]" />
        )}
      </div>
    </div>
  );
}

/** Interest rates and series of one's own: what there is, and a way out. */
function Others() {
  const others = useOthers().data;
  const rows = [
    ...(others?.rates.map((row) => ({ ...row, shown: `Interest, ${row.name}`, href: `rates/${row.name}` })) ??
      []),
    ...(others?.series.map((row) => ({
      ...row,
      shown: row.name,
      href: `series/${encodeURIComponent(row.name)}`,
    })) ?? []),
  ];
  if (rows.length === 0) return null;
  return (
    <section className="card shrink-0" aria-label="Rates and series">
      <p className="border-b px-3 py-1.5 text-xs text-soft">Interest rates and your own series</p>
      {rows.map((row) => (
        <div key={row.href} className="flex items-baseline gap-2 border-b px-3 py-1.5 last:border-b-0">
          <b className="truncate font-semibold">{row.shown}</b>
          <span className="ml-auto text-xs whitespace-nowrap text-soft">
            {number(row.count)} to {date(row.last)}
          </span>
          <a className="link" href={`/api/data-others/${row.href}.csv`}>
            CSV
          </a>
        </div>
      ))}
    </section>
  );
}

/** Where files come in. */
function Way() {
  const [share, setShare] = useState<number | null>(null);
  const [over, setOver] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const cache = useQueryClient();
  const go = useNavigate();
  async function take(file: File | undefined) {
    if (!file) return;
    setShare(0);
    try {
      const made = await send(file, setShare);
      await renew(cache, keys.intakes());
      go(`/intakes/${made.id}`);
    } catch (error) {
      tellError(error);
    } finally {
      setShare(null);
    }
  }
  function drop(event: DragEvent) {
    event.preventDefault();
    setOver(false);
    void take(event.dataTransfer.files[0]);
  }
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: dropping is an extra way, the button is the other
    <div
      className={`shrink-0 rounded-card border border-dashed px-3 py-3 text-center ${over ? "bg-mark" : "bg-surface"}`}
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={drop}
    >
      {share === null ? (
        <>
          <button type="button" className="button primary" onClick={() => input.current?.click()}>
            Choose a file
          </button>
          <p className="mt-1.5 text-xs text-soft">
            or drop it here: chains, bars, dividends, events, rates; CSV, gzip, zstd, Parquet, iCalendar
          </p>
          <input
            ref={input}
            type="file"
            className="sr-only"
            tabIndex={-1}
            aria-label="File of market data"
            onChange={(event) => {
              void take(event.target.files?.[0]);
              event.target.value = "";
            }}
          />
        </>
      ) : (
        <>
          <Progress share={share} label="Sending the file" />
          <p className="mt-1 text-xs text-soft">
            {share < 1 ? `sending, ${Math.round(share * 100)} %` : "looking at it"}
          </p>
        </>
      )}
    </div>
  );
}

function Row({ row, chosen }: { row: Holdings; chosen: boolean }) {
  return (
    <Link
      to={`/data/${row.symbol}`}
      className={`block border-b px-3 py-2 last:border-b-0 ${chosen ? "bg-mark" : ""}`}
      aria-current={chosen ? "page" : undefined}
    >
      <span className="flex items-baseline gap-2">
        <b className="font-semibold">{row.symbol}</b>
        <span className="truncate text-soft">{row.name === row.symbol ? row.kind : row.name}</span>
        <span className="number ml-auto text-xs whitespace-nowrap">
          {row.sessions > 0 ? plural(row.sessions, "session") : "no chains"}
        </span>
      </span>
      <span className="block text-xs text-soft">
        {row.sessions > 0
          ? `${date(row.first)} to ${date(row.last)}`
          : row.beside.bars > 0
            ? plural(row.beside.bars, "daily bar")
            : "nothing that is current"}
      </span>
    </Link>
  );
}

const STATE: Record<string, string> = {
  new: "to be looked at",
  queued: "waiting",
  running: "under way",
  done: "loaded",
  cancelled: "cancelled",
  failed: "failed",
  "taken back": "taken back",
};

function FileRow({ row, chosen }: { row: Intake; chosen: boolean }) {
  const active = row.status === "running" || row.status === "queued";
  return (
    <Link
      to={`/intakes/${row.id}`}
      className={`block border-b px-3 py-2 last:border-b-0 ${chosen ? "bg-mark" : ""}`}
      aria-current={chosen ? "page" : undefined}
    >
      <span className="flex items-baseline gap-2">
        <span className="truncate font-medium">{row.name}</span>
        <span
          className={`ml-auto text-xs whitespace-nowrap ${row.status === "failed" ? "text-loss" : "text-soft"}`}
        >
          {STATE[row.status] ?? row.status}
        </span>
      </span>
      {active ? (
        <span className="mt-1 block">
          <Progress share={row.share} label={row.name} />
        </span>
      ) : (
        <span className="block text-xs text-soft">
          {number(row.size / 1e6, 1)} MB · {ago(row.made_at)}
        </span>
      )}
    </Link>
  );
}
