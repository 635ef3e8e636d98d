import { useCallback } from "react";
import type { Schemas } from "../api/client";
import { level } from "../ui/format";
import { LazyChart } from "./Lazy";
import { axis, type Ink, tooltip } from "./look";

interface Props {
  path: Schemas["LivePathOut"];
  symbol: string;
  zone: string;
  /** Prices worth a line of their own, with what they are. */
  levels: { price: number; text: string }[];
  height?: number;
}

/** The underlying over the session, with strikes and break-evens of the chosen position. */
export function SessionChart({ path, symbol, zone, levels, height = 150 }: Props) {
  const option = useCallback(
    (c: Ink) => {
      const style = axis(c);
      const clock = (at: number) =>
        new Date(at * 1000).toLocaleTimeString("en-GB", {
          timeZone: zone,
          hour: "2-digit",
          minute: "2-digit",
        });
      const prices = [...path.spot, ...levels.map((level) => level.price)];
      const low = Math.min(...prices);
      const high = Math.max(...prices);
      const room = Math.max((high - low) * 0.1, 2);
      return {
        grid: { left: 8, right: 128, top: 10, bottom: 20 },
        tooltip: {
          trigger: "axis",
          ...tooltip(c),
          formatter: (found: { dataIndex: number }[]) => {
            const i = found[0]?.dataIndex ?? 0;
            return `<b>${clock(path.at[i]!)}</b><br>${symbol} ${level(path.spot[i])}`;
          },
        },
        xAxis: {
          type: "value",
          min: path.start,
          max: path.end,
          ...style,
          interval: 7200,
          splitLine: { show: false },
          axisLabel: { ...style.axisLabel, formatter: clock, showMaxLabel: false },
        },
        yAxis: {
          type: "value",
          show: false,
          min: low - room,
          max: high + room,
        },
        series: [
          {
            type: "line",
            data: path.at.map((at, i) => [at, path.spot[i]!]),
            symbol: "none",
            lineStyle: { color: c.ink, width: 1.4 },
            endLabel: {
              show: true,
              formatter: level(path.spot.at(-1)),
              color: c.ink,
              fontWeight: 600,
              fontSize: 12,
            },
            markLine: {
              silent: true,
              symbol: "none",
              lineStyle: { color: c.loss, type: "dashed", width: 1 },
              data: levels.map((level) => ({
                yAxis: level.price,
                label: { formatter: level.text, position: "end", color: c.soft, fontSize: 11 },
              })),
            },
          },
        ],
      };
    },
    [path, symbol, zone, levels],
  );
  const rows = useCallback(
    () => [["time", symbol], ...path.at.map((at, i) => [at, path.spot[i]!])],
    [path, symbol],
  );
  return <LazyChart name={`${symbol} today`} height={height} option={option} rows={rows} />;
}
