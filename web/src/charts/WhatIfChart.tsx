import { useCallback } from "react";
import type { Schemas } from "../api/client";
import { level, signed } from "../ui/format";
import { LazyChart } from "./Lazy";
import { type Ink, moneyAxis, priceAxis, tooltip } from "./look";

interface Props {
  found: Schemas["WhatIfOut"];
  /** What the pulled curve shows, nothing while nothing is pulled. */
  then: string | null;
  height: number;
}

/** P/L by price now, as pulled and at the nearest expiration; or one Greek as pulled. */
export function WhatIfChart({ found, then, height }: Props) {
  const option = useCallback(
    (c: Ink) => {
      const curves: { name: string; values: number[]; color: string; width: number; dash?: string }[] =
        found.greek
          ? [{ name: found.greek.name, values: found.greek.values, color: c.sea, width: 1.8 }]
          : [
              { name: "at expiration", values: found.at_expiration, color: c.ink, width: 1.8 },
              {
                name: "now",
                values: found.now,
                color: c.sea,
                width: then ? 1.2 : 1.8,
                ...(then ? { dash: "dashed" } : {}),
              },
              ...(then ? [{ name: then, values: found.then, color: c.sea, width: 1.8 }] : []),
            ];
      const all = curves.flatMap((curve) => curve.values);
      const [low, high] = [Math.min(...all, 0), Math.max(...all, 0)];
      const digits = found.greek ? 2 : 0;
      return {
        grid: { left: 8, right: 10, top: 18, bottom: 18, containLabel: true },
        tooltip: {
          trigger: "axis",
          ...tooltip(c),
          axisPointer: { lineStyle: { color: c.soft, type: "dotted" }, snap: true },
          formatter: (at: { dataIndex: number }[]) => {
            const i = at[0]?.dataIndex ?? 0;
            return `<b>${level(found.grid[i])}</b>${curves
              .map((curve) => `<br>${curve.name} ${signed(curve.values[i], digits)}`)
              .join("")}`;
          },
        },
        xAxis: priceAxis(c, found.grid[0], found.grid.at(-1)),
        yAxis: moneyAxis(c, low, high, found.greek && high - low < 5 ? 2 : 0),
        series: curves.map((curve, i) => ({
          name: curve.name,
          type: "line",
          data: found.grid.map((x, j) => [x, curve.values[j]!]),
          symbol: "none",
          lineStyle: { color: curve.color, width: curve.width, type: curve.dash ?? "solid" },
          ...(i === 0
            ? {
                markLine: {
                  silent: true,
                  symbol: "none",
                  data: [
                    {
                      yAxis: 0,
                      lineStyle: { color: c.soft, type: "solid", width: 1 },
                      label: { show: false },
                    },
                    {
                      xAxis: found.spot,
                      lineStyle: { color: c.ink, type: "dotted", width: 1.4 },
                      label: { formatter: level(found.spot), color: c.ink, fontSize: 11 },
                    },
                    ...(found.price === found.spot
                      ? []
                      : [
                          {
                            xAxis: found.price,
                            lineStyle: { color: c.sea, type: "dotted", width: 1.4 },
                            label: {
                              formatter: level(found.price),
                              color: c.sea,
                              fontSize: 11,
                              position: "insideEndTop",
                            },
                          },
                        ]),
                    ...(found.greek ? [] : found.break_evens).map((x) => ({
                      xAxis: x,
                      lineStyle: { color: c.gain, type: "dotted", width: 1 },
                      label: { show: false },
                    })),
                  ],
                },
              }
            : {}),
        })),
      };
    },
    [found, then],
  );
  const rows = useCallback(
    () => [
      ["price", "now", "as pulled", "at expiration", ...(found.greek ? [found.greek.name] : [])],
      ...found.grid.map((x, i) => [
        x,
        found.now[i]!,
        found.then[i]!,
        found.at_expiration[i]!,
        ...(found.greek ? [found.greek.values[i]!] : []),
      ]),
    ],
    [found],
  );
  return <LazyChart name="What if" height={height} option={option} rows={rows} />;
}
