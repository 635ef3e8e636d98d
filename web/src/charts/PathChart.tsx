import { useCallback } from "react";
import type { Schemas } from "../api/client";
import { day, level, number, signed } from "../ui/format";
import { LazyChart } from "./Lazy";
import { asHtml, axis, endLabel, type Ink, linkedPointer, tooltip } from "./look";

interface Props {
  path: Schemas["PathOut"];
  underlying: string;
  currency: string;
  legs: string[];
  /** Its history: what came between entry and exit is marked on the time axis. */
  events: Schemas["TradeEventOut"][];
  height?: number;
}

const MARKED = new Set(["filled", "stop moved", "delivered", "settled", "dividend", "adjusted"]);

/** By point of a path, what happened between its two ends, in words. */
function between(path: Schemas["PathOut"], events: Schemas["TradeEventOut"][]) {
  const found = new Map<number, string[]>();
  for (const event of events) {
    const i = path.local.findIndex((at) => at >= event.local);
    if (MARKED.has(event.kind) && i > 0 && i < path.local.length - 1)
      found.set(i, [...(found.get(i) ?? []), `${event.title}: ${event.text}`]);
  }
  return found;
}

/** A trade from entry to exit: P/L at mid, with the underlying above it. */
export function PathChart({ path, underlying, currency, legs, events, height = 220 }: Props) {
  const option = useCallback(
    (c: Ink) => {
      const style = axis(c);
      const marked = between(path, events);
      const firstOfDay = (i: number) =>
        i === 0 || path.local[i]?.slice(0, 10) !== path.local[i - 1]?.slice(0, 10);
      const x = (gridIndex: number, label: boolean) => ({
        type: "category",
        gridIndex,
        data: path.local,
        boundaryGap: false,
        ...style,
        axisLine: { onZero: false, lineStyle: { color: label ? c.hairline : c.line } },
        axisLabel: {
          ...style.axisLabel,
          show: label,
          interval: firstOfDay,
          formatter: day,
          hideOverlap: true,
        },
        splitLine: { show: label, interval: firstOfDay, lineStyle: { color: c.line } },
      });
      return {
        grid: [
          { left: 10, right: 62, top: 28, height: "24%" },
          { left: 10, right: 62, top: "44%", bottom: 22 },
        ],
        axisPointer: linkedPointer(c),
        tooltip: {
          trigger: "axis",
          ...tooltip(c),
          formatter: (found: { dataIndex: number }[]) => {
            const i = found[0]?.dataIndex ?? 0;
            const marks = legs
              .flatMap((leg, k) => {
                const mid = path.legs[k]?.[i];
                return mid == null ? [] : [`${leg}: ${number(mid, 2)}`];
              })
              .join("<br>");
            return `<b>${day(path.local[i]!)} ${path.local[i]!.slice(11)}</b><br>P/L at mid ${signed(path.pnl[i])} ${currency}<br>${underlying} ${level(path.spot[i])}<br>${marks}${(marked.get(i) ?? []).map((text) => `<br><i>${asHtml(text)}</i>`).join("")}`;
          },
        },
        xAxis: [x(0, false), x(1, true)],
        yAxis: [
          { scale: true, show: false },
          {
            ...style,
            gridIndex: 1,
            position: "right",
            splitNumber: 3,
            axisLine: { show: false },
            axisLabel: { ...style.axisLabel, formatter: (v: number) => signed(v) },
          },
        ],
        series: [
          {
            type: "line",
            data: path.spot,
            symbol: "none",
            lineStyle: { color: c.soft, width: 1.2 },
            endLabel: endLabel(underlying, c.soft),
          },
          {
            type: "line",
            data: path.pnl,
            xAxisIndex: 1,
            yAxisIndex: 1,
            symbol: "none",
            lineStyle: { color: c.sea, width: 1.7 },
            markLine: {
              silent: true,
              symbol: "none",
              label: { show: false },
              lineStyle: { color: c.soft, type: "solid", width: 1 },
              data: [
                { yAxis: 0 },
                ...[...marked.keys()].map((i) => ({
                  xAxis: i,
                  lineStyle: { type: "dotted", color: c.ink },
                })),
              ],
            },
          },
        ],
      };
    },
    [path, underlying, currency, legs, events],
  );
  const rows = useCallback(
    () => [
      ["time", "pnl", underlying, ...legs],
      ...path.local.map((at, i) => [
        at,
        path.pnl[i]!,
        path.spot[i]!,
        ...path.legs.map((leg) => leg[i] ?? ""),
      ]),
    ],
    [path, underlying, legs],
  );
  return <LazyChart name="P/L of the trade" height={height} option={option} rows={rows} zoom />;
}
