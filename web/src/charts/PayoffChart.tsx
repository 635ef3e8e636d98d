import { useCallback } from "react";
import type { Schemas } from "../api/client";
import { level, price, signed } from "../ui/format";
import { LazyChart } from "./Lazy";
import { type Ink, moneyAxis, priceAxis, tooltip } from "./look";

interface Props {
  payoff: Schemas["PayoffOut"];
  currency: string;
  height?: number;
  /** What the curve that is not "at expiration" shows: "now", or a date. */
  when?: string;
}

/** P/L over the underlying's price: now (or on a date) and at the nearest expiration. */
export function PayoffChart({ payoff, currency, height = 220, when = "now" }: Props) {
  const option = useCallback(
    (c: Ink) => {
      const points = (values: number[]) => payoff.grid.map((x, i) => [x, values[i]!]);
      const low = Math.min(...payoff.now, ...payoff.expiration);
      const high = Math.max(...payoff.now, ...payoff.expiration);
      return {
        grid: { left: 12, right: 16, top: 22, bottom: 22, containLabel: true },
        tooltip: {
          trigger: "axis",
          ...tooltip(c),
          axisPointer: { lineStyle: { color: c.soft, type: "dotted" }, snap: true },
          formatter: (found: { dataIndex: number }[]) => {
            const i = found[0]?.dataIndex ?? 0;
            return `<b>${level(payoff.grid[i])}</b><br>${when} ${signed(payoff.now[i])} ${currency}<br>at expiration ${signed(payoff.expiration[i])} ${currency}`;
          },
        },
        xAxis: priceAxis(c, payoff.grid[0], payoff.grid.at(-1)),
        yAxis: moneyAxis(c, low, high),
        series: [
          {
            type: "line",
            data: points(payoff.expiration),
            symbol: "none",
            lineStyle: { color: c.ink, width: 1.8 },
            markLine: {
              silent: true,
              symbol: "none",
              data: [
                { yAxis: 0, lineStyle: { color: c.soft, type: "solid", width: 1 }, label: { show: false } },
                {
                  xAxis: payoff.spot,
                  lineStyle: { color: c.ink, type: "dotted", width: 1.4 },
                  label: { formatter: level(payoff.spot), color: c.ink, fontSize: 11 },
                },
                ...payoff.break_evens.map((x) => ({
                  xAxis: x,
                  lineStyle: { color: c.gain, type: "dotted", width: 1 },
                  label: { show: false },
                })),
              ],
            },
          },
          {
            type: "line",
            data: points(payoff.now),
            symbol: "none",
            lineStyle: { color: c.sea, width: 1.8 },
          },
        ],
      };
    },
    [payoff, currency, when],
  );
  const rows = useCallback(
    () => [
      ["price", when, "at expiration"],
      ...payoff.grid.map((x, i) => [x, payoff.now[i]!, payoff.expiration[i]!]),
    ],
    [payoff, when],
  );
  return (
    <div>
      <LazyChart name="Payoff" height={height} option={option} rows={rows} />
      <p className="flex justify-center gap-5 text-xs" aria-hidden="true">
        <span className="font-medium text-sea">— {when}</span>
        <span className="font-medium text-ink">— at expiration</span>
        {payoff.break_evens.length > 0 && (
          <span className="text-gain">··· break-even {payoff.break_evens.map(price).join(", ")}</span>
        )}
      </p>
    </div>
  );
}
