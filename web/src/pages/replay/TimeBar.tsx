import { useLayoutEffect, useRef, useState } from "react";
import type { Scene } from "../../api/replay";
import { level, signed } from "../../ui/format";

const HEIGHT = 104;
const LEFT = 74;
const RIGHT = 16;

interface Lane {
  top: number;
  bottom: number;
}
const SPOT: Lane = { top: 8, bottom: 40 };
const PNL: Lane = { top: 44, bottom: 76 };

/**
 * Instants to pixels. Nights and weekends take no room: a session's start lies a day's width after the
 * one before, and time runs evenly inside it.
 */
function scale(bar: Scene["bar"], width: number) {
  const starts = bar.days.map((day) => day.at);
  const room = (width - LEFT - RIGHT) / Math.max(1, starts.length);
  const length = (day: number) => Math.max(1, bar.days[day]!.until - bar.days[day]!.at);
  const x = (at: number) => {
    const day = Math.max(
      0,
      starts.findLastIndex((start) => start <= at),
    );
    const share = Math.min(1, Math.max(0, (at - starts[day]!) / length(day)));
    return LEFT + (day + share) * room;
  };
  const at = (pixel: number) => {
    const place = Math.min(starts.length - 0.001, Math.max(0, (pixel - LEFT) / room));
    const day = Math.floor(place);
    return Math.round(starts[day]! + (place - day) * length(day));
  };
  return { x, at };
}

function curve(values: number[], lane: Lane, at: number[], x: (at: number) => number): string {
  const low = Math.min(...values);
  const span = Math.max(...values) - low || 1;
  const y = (value: number) => lane.bottom - ((value - low) / span) * (lane.bottom - lane.top);
  return values.map((value, i) => `${x(at[i]!).toFixed(1)},${y(value).toFixed(1)}`).join(" ");
}

/** The session's time along the bottom: underlying and P/L up to now, marks, and the hand to pull. */
export function TimeBar({ scene, onSeek }: { scene: Scene; onSeek: (at: number) => void }) {
  const { bar } = scene;
  const place = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(1200);
  const [pulled, setPulled] = useState<number | null>(null);
  useLayoutEffect(() => {
    const sizes = new ResizeObserver(([entry]) => setWidth(entry!.contentRect.width));
    sizes.observe(place.current!);
    return () => sizes.disconnect();
  }, []);
  const { x, at } = scale(bar, width);
  const now = pulled ?? scene.at;
  const under = (event: React.PointerEvent) =>
    at(event.clientX - place.current!.getBoundingClientRect().left);
  const every = Math.ceil(bar.days.length / Math.max(1, Math.floor((width - LEFT) / 74)));

  return (
    <div
      ref={place}
      className="card mx-4.5 mt-2 cursor-pointer touch-none"
      role="slider"
      tabIndex={0}
      aria-label="Time"
      aria-valuemin={bar.start}
      aria-valuemax={bar.end}
      aria-valuenow={scene.at}
      aria-valuetext={scene.shown}
      onPointerDown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        setPulled(under(event));
      }}
      onPointerMove={(event) => pulled !== null && setPulled(under(event))}
      onPointerUp={(event) => {
        if (pulled !== null) onSeek(under(event));
        setPulled(null);
      }}
    >
      <svg height={HEIGHT} className="block w-full" aria-hidden="true">
        {bar.days.map((day, i) => (
          <g key={day.at}>
            <line x1={x(day.at)} x2={x(day.at)} y1={4} y2={80} stroke="var(--line)" />
            {i % every === 0 && (
              <text x={x(day.at) + 3} y={97} fontSize={11} fill="var(--soft)">
                {day.label}
              </text>
            )}
          </g>
        ))}
        <text x={10} y={22} fontSize={11} fill="var(--soft)">
          {scene.symbol}
        </text>
        <text x={10} y={36} fontSize={12} fill="var(--ink)">
          {level(scene.spot)}
        </text>
        <text x={10} y={58} fontSize={11} fill="var(--soft)">
          P/L, mid
        </text>
        <text x={10} y={72} fontSize={12} fill="var(--ink)">
          {signed(scene.account.pnl_mid)}
        </text>
        <polyline
          points={curve(bar.spot, SPOT, bar.at, x)}
          fill="none"
          stroke="var(--soft)"
          strokeWidth={1.3}
        />
        <polyline points={curve(bar.pnl, PNL, bar.at, x)} fill="none" stroke="var(--sea)" strokeWidth={1.6} />
        {bar.marks
          .filter((mark) => mark.at <= bar.end)
          .map((mark, i) => (
            <Mark key={`${mark.at}${mark.text}`} mark={mark} x={x(mark.at)} row={i % 2} width={width} />
          ))}
        <line x1={x(now)} x2={x(now)} y1={2} y2={84} stroke="var(--color-replay)" strokeWidth={2.5} />
        <circle cx={x(now)} cy={5} r={5} fill="var(--color-replay)" />
      </svg>
    </div>
  );
}

function Mark({
  mark,
  x,
  row,
  width,
}: {
  mark: Scene["bar"]["marks"][number];
  x: number;
  row: number;
  width: number;
}) {
  const text = mark.text.length > 30 ? `${mark.text.slice(0, 29)}…` : mark.text;
  const wide = text.length * 5.6 + 8;
  const left = Math.min(x + 2, width - wide - 2);
  const y = row ? 64 : 46;
  const tone = mark.kind === "exit" ? "var(--loss)" : "var(--ink)";
  return (
    <g>
      <title>{mark.text}</title>
      <line x1={x} x2={x} y1={6} y2={82} stroke={tone} strokeDasharray="2 3" />
      <rect
        x={left}
        y={y}
        width={wide}
        height={15}
        rx={3}
        fill="var(--surface)"
        stroke={tone}
        strokeWidth={0.8}
      />
      <text x={left + 4} y={y + 11} fontSize={10.5} fill={tone}>
        {text}
      </text>
    </g>
  );
}
