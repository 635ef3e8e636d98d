import { useCallback } from "react";
import { day, number } from "../ui/format";
import { LazyChart } from "./Lazy";
import { asHtml, axis, type Ink, tooltip } from "./look";

export interface Curve {
  name: string;
  dates: string[];
  equity: number[];
  start: number;
}

/** Colours and dashes that tell curves apart, also without colour. */
export function strokes(c: Ink): { color: string; type: "solid" | "dashed" | "dotted" }[] {
  const colours = [c.sea, c.loss, c.gain, c.ink];
  return Array.from({ length: 8 }, (_, i) => ({
    color: colours[i % 4]!,
    type: i < 4 ? "solid" : "dashed",
  }));
}

/** The same colours for words, by the place of a curve among four. */
export const STROKE_WORDS = ["text-sea", "text-loss", "text-gain", "text-ink"];

/** Equity of several runs as a share of what each began with, on one axis of days. */
export function OverlayChart({ curves }: { curves: Curve[] }) {
  const option = useCallback(
    (c: Ink) => {
      const style = axis(c);
      const every = [...new Set(curves.flatMap((curve) => curve.dates))].sort();
      return {
        grid: { left: 14, right: 52, top: 8, bottom: 24 },
        tooltip: {
          trigger: "axis",
          ...tooltip(c),
          formatter: (found: { dataIndex: number; seriesIndex: number; value: number | null }[]) => {
            const at = every[found[0]?.dataIndex ?? 0]!;
            const lines = found
              .filter((item) => item.value !== null)
              .map((item) => `${asHtml(curves[item.seriesIndex]!.name)}: ${number(item.value, 1)}`);
            return `<b>${day(at)} ${at.slice(0, 4)}</b><br>${lines.join("<br>")}`;
          },
        },
        xAxis: {
          type: "category",
          data: every,
          boundaryGap: false,
          ...style,
          splitLine: { show: false },
          axisLabel: {
            ...style.axisLabel,
            interval: (i: number) => i > 0 && every[i]!.slice(0, 4) !== every[i - 1]!.slice(0, 4),
            formatter: (at: string) => at.slice(0, 4),
          },
        },
        yAxis: {
          ...style,
          scale: true,
          position: "right",
          splitNumber: 4,
          axisLine: { show: false },
          axisLabel: { ...style.axisLabel, formatter: (v: number) => number(v) },
        },
        series: curves.map((curve, i) => {
          const at = new Map(curve.dates.map((date, n) => [date, (100 * curve.equity[n]!) / curve.start]));
          return {
            type: "line",
            data: every.map((date) => at.get(date) ?? null),
            symbol: "none",
            lineStyle: { ...strokes(c)[i], width: i === 0 ? 2 : 1.4 },
          };
        }),
      };
    },
    [curves],
  );
  const rows = useCallback(
    () => [
      ["date", "run", "equity"],
      ...curves.flatMap((curve) => curve.dates.map((at, i) => [at, curve.name, curve.equity[i]!])),
    ],
    [curves],
  );
  return <LazyChart name="Equity side by side" height={250} option={option} rows={rows} zoom />;
}
