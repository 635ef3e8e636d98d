import { useCallback } from "react";
import type { Schemas } from "../api/client";
import { day, number, signed } from "../ui/format";
import { LazyChart } from "./Lazy";
import { axis, type Ink, tooltip } from "./look";
import { STROKE_WORDS, strokes } from "./OverlayChart";

/** Causes as they are told, in the order of their lines. */
export const CAUSES = [
  { id: "price", title: "price" },
  { id: "time", title: "time" },
  { id: "volatility", title: "volatility" },
  { id: "carry", title: "interest and carry" },
  { id: "rest", title: "rest" },
] as const;

interface Line {
  name: string;
  values: (number | null)[];
}

interface Props {
  name: string;
  local: string[];
  lines: Line[];
  text: (value: number) => string;
  height: number;
}

/** Lines over the snapshots of a trade, told apart by colour and dash. */
function LinesChart({ name, local, lines, text, height }: Props) {
  const option = useCallback(
    (c: Ink) => {
      const style = axis(c);
      return {
        grid: { left: 14, right: 56, top: 8, bottom: 22 },
        tooltip: {
          trigger: "axis",
          ...tooltip(c),
          formatter: (found: { dataIndex: number }[]) => {
            const i = found[0]?.dataIndex ?? 0;
            const told = lines.map((line) => {
              const value = line.values[i];
              return `${line.name} ${value == null ? "–" : text(value)}`;
            });
            return `<b>${day(local[i]!)} ${local[i]!.slice(11)}</b><br>${told.join("<br>")}`;
          },
        },
        xAxis: {
          type: "category",
          data: local,
          boundaryGap: false,
          ...style,
          splitLine: { show: false },
          axisLine: { ...style.axisLine, onZero: false },
          axisLabel: { ...style.axisLabel, formatter: (at: string) => day(at).slice(4) },
        },
        yAxis: {
          ...style,
          scale: true,
          position: "right",
          splitNumber: 4,
          axisLine: { show: false },
          axisLabel: { ...style.axisLabel, formatter: (value: number) => text(value) },
        },
        series: lines.map((line, i) => ({
          type: "line",
          data: line.values,
          symbol: "none",
          lineStyle: { ...strokes(c)[i % 8], width: 1.5 },
        })),
      };
    },
    [local, lines, text],
  );
  const rows = useCallback(
    () => [
      ["time", ...lines.map((line) => line.name)],
      ...local.map((at, i) => [at, ...lines.map((line) => line.values[i] ?? "")]),
    ],
    [local, lines],
  );
  return (
    <>
      <p className="flex flex-wrap gap-x-3 px-1 text-xs font-medium">
        {lines.map((line, i) => (
          <span key={line.name} className={STROKE_WORDS[i % 4]}>
            {i % 8 < 4 ? "—" : "- -"} {line.name}
          </span>
        ))}
      </p>
      <LazyChart name={name} height={height - 16} option={option} rows={rows} />
    </>
  );
}

const money = (value: number) => signed(value);
const vol = (value: number) => `${number(value, 1)} %`;

interface CauseProps {
  causes: Schemas["CausesOut"];
  path: Schemas["PathOut"];
  labels: string[];
  height: number;
}

/** P/L by cause from the entry to each snapshot. */
export function CauseChart({ causes, path, height }: CauseProps) {
  const lines = CAUSES.map((cause) => ({ name: cause.title, values: causes.course[cause.id] ?? [] }));
  return <LinesChart name="P/L by cause" local={path.local} lines={lines} text={money} height={height} />;
}

/** Volatility that each leg's mid implies. */
export function LegVolChart({ causes, path, labels, height }: CauseProps) {
  const lines = labels
    .map((name, i) => ({ name, values: causes.vols[i] ?? [] }))
    .filter((line) => line.values.some((value) => value !== null));
  return (
    <LinesChart name="Volatility of each leg" local={path.local} lines={lines} text={vol} height={height} />
  );
}
