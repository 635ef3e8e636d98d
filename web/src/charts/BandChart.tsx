import { useCallback } from "react";
import type { Schemas } from "../api/client";
import { number, signed } from "../ui/format";
import { LazyChart } from "./Lazy";
import { axis, type Ink, moneyAxis, tooltip } from "./look";

/** P/L by number of trades as it came, between what 90 of 100 records drawn again from the same trades made. */
export function BandChart({ order, currency }: { order: Schemas["TradeOrderOut"]; currency: string }) {
  const { places, bands, made } = order;
  const option = useCallback(
    (c: Ink) => {
      const [low = [], middle = [], high = []] = bands;
      const style = axis(c);
      const line = (data: number[], colour: string, width: number, dotted = false) => ({
        type: "line",
        data: data.map((value, i) => [places[i], value]),
        symbol: "none",
        lineStyle: { color: colour, width, type: dotted ? "dotted" : "solid" },
      });
      const bottom = Math.min(...low, ...made, 0);
      return {
        grid: { left: 56, right: 14, top: 8, bottom: 22 },
        tooltip: {
          trigger: "axis",
          ...tooltip(c),
          formatter: (found: { dataIndex: number }[]) => {
            const i = found[0]?.dataIndex ?? 0;
            return `<b>after ${number(places[i])} trades</b><br>as it came ${signed(made[i])} ${currency}<br>likely ${signed(low[i])} to ${signed(high[i])}`;
          },
        },
        xAxis: {
          type: "value",
          min: 0,
          max: places.at(-1),
          ...style,
          splitLine: { show: false },
          axisLabel: { ...style.axisLabel, showMaxLabel: false },
        },
        yAxis: moneyAxis(c, bottom, Math.max(...high, ...made)),
        series: [
          line(low, c.soft, 1),
          line(high, c.soft, 1),
          line(middle, c.soft, 1, true),
          line(made, c.sea, 1.8),
        ],
      };
    },
    [places, bands, made, currency],
  );
  const rows = useCallback(
    () => [
      ["trades", "as it came", "5 %", "50 %", "95 %"],
      ...places.map((place, i) => [place, made[i]!, bands[0]![i]!, bands[1]![i]!, bands[2]![i]!]),
    ],
    [places, bands, made],
  );
  return <LazyChart name="P/L by trades, drawn again" height={200} option={option} rows={rows} />;
}
