import { useCallback } from "react";
import type { Schemas } from "../api/client";
import { day, level, number } from "../ui/format";
import { LazyChart } from "./Lazy";
import { endLabel, type Ink, priceAxis, tooltip, volatilityAxis } from "./look";

type Fitted = Schemas["FittedOut"];

interface Props {
  chosen: Fitted;
  /** Others drawn thin beside it. */
  beside: Fitted[];
  spot: number;
  height: number;
}

/** Volatility by strike: the fitted curve as a line, the quotes it was fitted to as dots. */
export function SmileChart({ chosen, beside, spot, height }: Props) {
  const option = useCallback(
    (c: Ink) => {
      const line = chosen.curve!.line;
      const [from, to] = [line[0]![0]!, line.at(-1)![0]!];
      const inside = (other: Fitted) =>
        other.curve!.line.filter(([strike = 0]) => strike >= from && strike <= to);
      // names at the end of the lines keep away from each other: the higher line's goes up
      const end = line.at(-1)![1]!;
      const above = beside.some((other) => (inside(other).at(-1)?.[1] ?? 0) > end);
      const away = (up: boolean) => (beside.length > 0 ? { offset: [0, up ? -7 : 7] } : {});
      return {
        grid: { left: 8, right: 74, top: 12, bottom: 18, containLabel: true },
        tooltip: {
          trigger: "item",
          ...tooltip(c),
          formatter: (found: { value: number[]; seriesName: string }) =>
            `<b>${level(found.value[0])}</b><br>${found.seriesName} ${number(found.value[1], 2)} %`,
        },
        xAxis: priceAxis(c, from, to),
        yAxis: volatilityAxis(c),
        series: [
          ...beside.map((other) => ({
            name: day(other.date),
            type: "line",
            data: inside(other),
            symbol: "none",
            lineStyle: { color: c.hairline, width: 1.2 },
            endLabel: { ...endLabel(day(other.date), c.soft), ...away(above) },
          })),
          {
            name: "curve",
            type: "line",
            data: line,
            symbol: "none",
            lineStyle: { color: c.sea, width: 1.8 },
            endLabel: {
              ...endLabel(day(chosen.date), c.sea),
              fontWeight: 600,
              ...away(!above),
            },
            markLine: {
              silent: true,
              symbol: "none",
              data: [
                {
                  xAxis: spot,
                  lineStyle: { color: c.ink, type: "dotted", width: 1.2 },
                  label: { show: false },
                },
              ],
            },
          },
          {
            name: "quote",
            type: "line",
            data: chosen.curve!.marks,
            symbol: "circle",
            symbolSize: 4,
            showAllSymbol: true,
            lineStyle: { width: 0 },
            itemStyle: { color: c.ink, opacity: 0.55 },
          },
        ],
      };
    },
    [chosen, beside, spot],
  );
  const rows = useCallback(() => [["strike", "volatility by the curve"], ...chosen.curve!.line], [chosen]);
  return (
    <LazyChart
      name={`Volatility by strike, ${day(chosen.date)}`}
      height={height}
      option={option}
      rows={rows}
    />
  );
}
