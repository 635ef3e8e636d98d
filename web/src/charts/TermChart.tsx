import { useCallback } from "react";
import type { Schemas } from "../api/client";
import { day, number } from "../ui/format";
import { LazyChart } from "./Lazy";
import { axis, endLabel, type Ink, tooltip, volatilityAxis } from "./look";

/** Volatility by days to expiration: at the money and where puts and calls have a delta of 25. */
export function TermChart({ fitted, height }: { fitted: Schemas["FittedOut"][]; height: number }) {
  const option = useCallback(
    (c: Ink) => {
      const style = axis(c);
      const known = fitted.filter((row) => row.curve);
      const line = (
        name: string,
        color: string,
        of: (row: Schemas["VolatilityCurveOut"]) => number,
        symbol: boolean,
      ) => ({
        name,
        type: "line",
        data: known.map((row) => [Math.max(0, row.days), of(row.curve!), row.date]),
        symbol: symbol ? "circle" : "none",
        symbolSize: 4,
        lineStyle: { color, width: symbol ? 1.8 : 1.2 },
        itemStyle: { color },
        endLabel: endLabel(name, color),
        labelLayout: { moveOverlap: "shiftY" },
      });
      return {
        grid: { left: 8, right: 92, top: 12, bottom: 18, containLabel: true },
        tooltip: {
          trigger: "axis",
          ...tooltip(c),
          formatter: (found: { value: [number, number, string]; seriesName: string }[]) =>
            `<b>${found[0] ? day(found[0].value[2]) : ""}</b>, ${found[0]?.value[0]} days${found
              .map((one) => `<br>${one.seriesName} ${number(one.value[1], 2)} %`)
              .join("")}`,
        },
        xAxis: {
          type: "value",
          ...style,
          splitLine: { show: false },
          axisLabel: { ...style.axisLabel, formatter: (v: number) => `${v} d` },
        },
        yAxis: volatilityAxis(c),
        series: [
          line("25-delta put", c.soft, (row) => row.put_25, false),
          line("at the money", c.sea, (row) => row.at_the_money, true),
          line("25-delta call", c.soft, (row) => row.call_25, false),
        ],
      };
    },
    [fitted],
  );
  const rows = useCallback(
    () => [
      ["expiration", "days", "at the money", "25-delta put", "25-delta call"],
      ...fitted
        .filter((row) => row.curve)
        .map((row) => [row.date, row.days, row.curve!.at_the_money, row.curve!.put_25, row.curve!.call_25]),
    ],
    [fitted],
  );
  return <LazyChart name="Volatility by term" height={height} option={option} rows={rows} />;
}
