import { useCallback } from "react";
import type { Schemas } from "../api/client";
import { day, number, percent } from "../ui/format";
import { LazyChart } from "./Lazy";
import { axis, type Ink, tooltip } from "./look";

interface Line {
  name: string;
  dates: string[];
  values: (number | null)[];
  /** Drawn across: what the value would be of nothing. */
  level: number;
  text: (value: number | null | undefined) => string;
}

function RollingChart({ name, dates, values, level, text }: Line) {
  const option = useCallback(
    (c: Ink) => {
      const style = axis(c);
      return {
        grid: { left: 44, right: 12, top: 8, bottom: 22 },
        tooltip: {
          trigger: "axis",
          ...tooltip(c),
          formatter: (found: { dataIndex: number }[]) => {
            const i = found[0]?.dataIndex ?? 0;
            return `<b>${day(dates[i]!)} ${dates[i]!.slice(0, 4)}</b><br>${text(values[i])}`;
          },
        },
        xAxis: {
          type: "category",
          data: dates,
          boundaryGap: false,
          ...style,
          splitLine: { show: false },
          axisLine: { ...style.axisLine, onZero: false },
          axisLabel: {
            ...style.axisLabel,
            interval: (i: number) => i > 0 && dates[i]!.slice(0, 4) !== dates[i - 1]!.slice(0, 4),
            formatter: (at: string) => at.slice(0, 4),
          },
        },
        yAxis: {
          ...style,
          scale: true,
          splitNumber: 3,
          axisLine: { show: false },
          axisLabel: { ...style.axisLabel, formatter: (v: number) => text(v) },
        },
        series: [
          {
            type: "line",
            data: values,
            symbol: "none",
            lineStyle: { color: c.sea, width: 1.6 },
            markLine: {
              silent: true,
              symbol: "none",
              label: { show: false },
              lineStyle: { color: c.soft, type: "dotted" },
              data: [{ yAxis: level }],
            },
          },
        ],
      };
    },
    [dates, values, level, text],
  );
  const rows = useCallback(
    () => [["date", name], ...dates.map((at, i) => [at, values[i] ?? ""])],
    [dates, values, name],
  );
  return <LazyChart name={name} height={150} option={option} rows={rows} />;
}

const ratio = (value: number | null | undefined) => number(value, 1);
const share = (value: number | null | undefined) => percent(value, 0);

/** Sharpe ratio of the sessions before each day. */
export const RollingSharpe = ({ course }: { course: Schemas["CourseOut"] }) => (
  <RollingChart
    name={`Sharpe ratio of ${course.sessions} sessions`}
    dates={course.dates}
    values={course.sharpe}
    level={0}
    text={ratio}
  />
);

/** Share of the trades before each that won. */
export const RollingWon = ({ course }: { course: Schemas["CourseOut"] }) => (
  <RollingChart
    name={`Won of ${course.trades} trades`}
    dates={course.closed}
    values={course.won}
    level={0.5}
    text={share}
  />
);
