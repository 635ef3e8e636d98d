import { useCallback, useMemo } from "react";
import type { Schemas } from "../api/client";
import { number, signed } from "../ui/format";
import { LazyChart } from "./Lazy";
import { axis, type Ink, tooltip } from "./look";

type Trade = Schemas["TradeRow"];
interface Props {
  trades: Trade[];
  currency: string;
  height?: number;
}

/** Widths of bars that read well: 1, 2 or 5 times a power of ten. */
function wide(span: number): number {
  const rough = span / 24 || 1;
  const power = 10 ** Math.floor(Math.log10(rough));
  return power * ([1, 2, 5, 10].find((times) => times * power >= rough) ?? 10);
}

/** How many trades made how much. */
export function SpreadChart({ trades, currency, height = 170 }: Props) {
  const bars = useMemo(() => {
    const made = trades.map((trade) => trade.pnl);
    if (made.length === 0) return [];
    const [low, high] = [Math.min(...made), Math.max(...made)];
    const width = wide(high - low);
    const first = Math.floor(low / width);
    const counts = new Array<number>(Math.floor(high / width) - first + 1).fill(0);
    for (const value of made) counts[Math.floor(value / width) - first]! += 1;
    return counts.map((count, i) => ({ from: (first + i) * width, to: (first + i + 1) * width, count }));
  }, [trades]);
  const option = useCallback(
    (c: Ink) => {
      const style = axis(c);
      return {
        grid: { left: 30, right: 12, top: 10, bottom: 22 },
        tooltip: {
          trigger: "axis",
          ...tooltip(c),
          formatter: (found: { dataIndex: number }[]) => {
            const bar = bars[found[0]?.dataIndex ?? 0]!;
            return `${signed(bar.from)} to ${signed(bar.to)} ${currency}: ${number(bar.count)}`;
          },
        },
        xAxis: {
          type: "category",
          data: bars.map((bar) => signed(bar.from)),
          ...style,
          splitLine: { show: false },
        },
        yAxis: { ...style, minInterval: 1, splitNumber: 3, axisLine: { show: false } },
        series: [
          {
            type: "bar",
            barCategoryGap: "8%",
            data: bars.map((bar) => ({
              value: bar.count,
              itemStyle: { color: bar.from < 0 ? c.loss : c.gain, opacity: 0.8 },
            })),
          },
        ],
      };
    },
    [bars, currency],
  );
  const rows = useCallback(
    () => [["from", "to", "trades"], ...bars.map((bar) => [bar.from, bar.to, bar.count])],
    [bars],
  );
  return <LazyChart name="What trades made" height={height} option={option} rows={rows} />;
}

/** What each trade made against the days it was held. */
export function HeldChart({
  trades,
  currency,
  height = 170,
  onTrade,
}: Props & { onTrade: (number: number) => void }) {
  const parts = useMemo(
    () => [trades.filter((trade) => trade.pnl < 0), trades.filter((trade) => trade.pnl >= 0)],
    [trades],
  );
  const option = useCallback(
    (c: Ink) => {
      const style = axis(c);
      return {
        grid: { left: 52, right: 12, top: 10, bottom: 22 },
        tooltip: {
          ...tooltip(c),
          formatter: ({ dataIndex, seriesIndex }: { dataIndex: number; seriesIndex: number }) => {
            const trade = parts[seriesIndex]![dataIndex]!;
            return `Trade ${trade.number}, ${trade.opened_shown}<br>${number(trade.held)} days, <b>${signed(trade.pnl)} ${currency}</b>`;
          },
        },
        xAxis: {
          ...style,
          minInterval: 1,
          splitLine: { show: false },
          axisLabel: { ...style.axisLabel, formatter: (v: number) => `${number(v)} d` },
        },
        yAxis: {
          ...style,
          splitNumber: 4,
          axisLine: { show: false },
          axisLabel: { ...style.axisLabel, formatter: (v: number) => signed(v) },
        },
        series: [c.loss, c.gain].map((color, part) => ({
          type: "scatter",
          symbolSize: 6,
          large: true,
          itemStyle: { color, opacity: 0.65 },
          data: parts[part]!.map((trade) => [trade.held, trade.pnl]),
        })),
      };
    },
    [parts, currency],
  );
  const rows = useCallback(
    () => [["trade", "days held", "P/L"], ...trades.map((trade) => [trade.number, trade.held, trade.pnl])],
    [trades],
  );
  return (
    <LazyChart
      name="P/L by days held"
      height={height}
      option={option}
      rows={rows}
      onPoint={(index, part) => parts[part]?.[index] && onTrade(parts[part][index].number)}
    />
  );
}
