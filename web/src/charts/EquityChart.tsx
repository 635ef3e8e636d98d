import { useCallback, useState } from "react";
import type { Schemas } from "../api/client";
import { day, number, signedPercent } from "../ui/format";
import { LazyChart } from "./Lazy";
import { axis, digitsFor, type Ink, linkedPointer, tooltip } from "./look";

interface Props {
  curve: Schemas["CurveOut"];
  underlying: string;
  currency: string;
  /** Sessions after which something else begins: that a run was extended by what follows. */
  cuts?: string[];
  /** First of the sessions that were held back. */
  held?: string;
  /** Sessions that are looked at. */
  stretch?: { from: string; to: string } | null;
  onDate?: (date: string) => void;
}

function month(iso: string): string {
  const names = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];
  const number_ = Number(iso.slice(5, 7));
  return number_ === 1 ? iso.slice(0, 4) : (names[number_ - 1] ?? "");
}

/** First session of every January, April, July and October. */
function quarters(dates: string[]): (index: number) => boolean {
  return (index) => {
    const now = dates[index]?.slice(0, 7);
    return (
      index > 0 && now !== dates[index - 1]?.slice(0, 7) && ["01", "04", "07", "10"].includes(now!.slice(5))
    );
  };
}

/** Equity and underlying above, drawdown and volatility below, on one axis of sessions. */
export function EquityChart({ curve, underlying, currency, cuts, held, stretch, onDate }: Props) {
  const { dates = [], equity = [], drawdown = [], spot = [], vol = [], holding = [] } = curve;
  const [oneScale, setOneScale] = useState(false);
  const beside = oneScale ? holding : spot;
  const strips = vol.length > 0 ? 2 : 1;
  const option = useCallback(
    (c: Ink) => {
      const style = axis(c);
      const x = (gridIndex: number, label: boolean) => ({
        type: "category",
        gridIndex,
        data: dates,
        boundaryGap: false,
        ...style,
        axisLabel: { ...style.axisLabel, show: label, interval: quarters(dates), formatter: month },
        axisLine: { lineStyle: { color: gridIndex > 0 ? c.hairline : c.line }, onZero: gridIndex === 1 },
        splitLine: { show: false },
      });
      const line = cuts?.length
        ? {
            silent: true,
            symbol: "none",
            label: { show: false },
            lineStyle: { color: c.ink, type: "dotted" },
            data: cuts.map((at) => ({ xAxis: at })),
          }
        : undefined;
      const from = held && dates.find((at) => at >= held);
      const area = {
        silent: true,
        itemStyle: { opacity: 0.08 },
        data: [
          ...(stretch
            ? [[{ xAxis: stretch.from, itemStyle: { color: c.loss } }, { xAxis: stretch.to }]]
            : []),
          ...(from ? [[{ xAxis: from, itemStyle: { color: c.sea } }, { xAxis: dates.at(-1)! }]] : []),
        ],
      };
      const side = { left: 14, right: 52 };
      const shown = oneScale ? [...equity, ...holding] : equity;
      const thousands = digitsFor((Math.max(...shown) - Math.min(...shown)) / 4000);
      const fall = digitsFor(-Math.min(0, ...drawdown) * 50);
      return {
        grid: [
          { ...side, top: 8, height: 146 },
          { ...side, top: 176, height: 42 },
          ...(strips > 1 ? [{ ...side, top: 232, height: 30 }] : []),
        ],
        axisPointer: linkedPointer(c),
        tooltip: {
          trigger: "axis",
          ...tooltip(c),
          formatter: (found: { dataIndex: number }[]) => {
            const i = found[0]?.dataIndex ?? 0;
            return `<b>${day(dates[i]!)} ${dates[i]!.slice(0, 4)}</b><br>${number(equity[i], 0)} ${currency}, drawdown ${signedPercent(drawdown[i])}<br>${underlying} ${number(spot[i], 1)}${holding.length ? `, holding it ${number(holding[i], 0)} ${currency}` : ""}${vol[i] == null ? "" : `, at-the-money IV ${number(vol[i], 1)} %`}`;
          },
        },
        xAxis: [x(0, false), x(1, strips === 1), ...(strips > 1 ? [x(2, true)] : [])],
        yAxis: [
          {
            ...style,
            scale: true,
            position: "right",
            splitNumber: 4,
            axisLine: { show: false },
            axisLabel: { ...style.axisLabel, formatter: (v: number) => `${number(v / 1000, thousands)}k` },
          },
          { scale: true, show: false },
          {
            ...style,
            gridIndex: 1,
            position: "right",
            splitNumber: 2,
            max: 0,
            axisLine: { show: false },
            axisLabel: { ...style.axisLabel, formatter: (v: number) => signedPercent(v, fall) },
          },
          ...(strips > 1
            ? [
                {
                  ...style,
                  gridIndex: 2,
                  position: "right",
                  scale: true,
                  splitNumber: 1,
                  axisLine: { show: false },
                  axisLabel: { ...style.axisLabel, formatter: (v: number) => `${number(v)} %` },
                },
              ]
            : []),
        ],
        series: [
          {
            type: "line",
            data: beside,
            yAxisIndex: oneScale ? 0 : 1,
            symbol: "none",
            lineStyle: { color: c.soft, width: 1, opacity: oneScale ? 0.9 : 0.55 },
          },
          {
            type: "line",
            data: equity,
            symbol: "none",
            lineStyle: { color: c.sea, width: 1.8 },
            markLine: line,
            markArea: area,
          },
          {
            type: "line",
            data: drawdown,
            xAxisIndex: 1,
            yAxisIndex: 2,
            symbol: "none",
            lineStyle: { color: c.loss, width: 1.2 },
            areaStyle: { color: c.loss, opacity: 0.14 },
            markLine: line,
            markArea: area,
          },
          ...(strips > 1
            ? [
                {
                  type: "line",
                  data: vol,
                  xAxisIndex: 2,
                  yAxisIndex: 3,
                  symbol: "none",
                  lineStyle: { color: c.soft, width: 1.2 },
                  markLine: line,
                },
              ]
            : []),
        ],
      };
    },
    [
      dates,
      equity,
      drawdown,
      spot,
      vol,
      holding,
      beside,
      oneScale,
      strips,
      underlying,
      currency,
      cuts,
      held,
      stretch,
    ],
  );
  const rows = useCallback(
    () => [
      ["date", "equity", "drawdown", underlying, "at-the-money IV", `holding ${underlying}`],
      ...dates.map((at, i) => [at, equity[i]!, drawdown[i]!, spot[i]!, vol[i] ?? "", holding[i] ?? ""]),
    ],
    [dates, equity, drawdown, spot, vol, holding, underlying],
  );
  return (
    <>
      <p className="flex gap-5 overflow-hidden px-3 text-xs font-medium whitespace-nowrap">
        <span className="text-sea">— equity, {currency}</span>
        <span className="text-soft">
          — {oneScale ? `the same cash in ${underlying}` : `${underlying}, on a scale of its own`}
        </span>
        <span className="text-loss">— drawdown</span>
        {strips > 1 && <span className="text-soft">— at-the-money IV, 30 days</span>}
        {holding.length > 0 && (
          <button
            type="button"
            className="link"
            aria-pressed={oneScale}
            onClick={() => setOneScale(!oneScale)}
          >
            {oneScale ? `${underlying} on its own scale` : "compare with holding it"}
          </button>
        )}
        <span className="ml-auto pr-24 font-normal text-soft">drag to zoom</span>
      </p>
      <LazyChart
        name={`Equity and drawdown with ${underlying}`}
        height={strips > 1 ? 286 : 242}
        option={option}
        rows={rows}
        zoom
        onClick={(i) => dates[i] && onDate?.(dates[i])}
      />
    </>
  );
}
