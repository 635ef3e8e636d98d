import type { Schemas } from "../api/client";

type Glyph = Schemas["GlyphOut"];

const PAD = 9;

function describe(glyph: Glyph): string {
  if (glyph.legs.length === 0) return "no position";
  return glyph.legs
    .map(
      (leg) =>
        `${leg.contracts > 0 ? "long" : "short"} ${Math.abs(leg.contracts)} ${leg.right === "unit" ? "of the underlying" : `${leg.strike} ${leg.right}`}`,
    )
    .join(", ");
}

/**
 * A structure in miniature: one line per expiration, strikes across, longs above the line and shorts
 * below, height by ratio, calls leaning right, puts leaning left, a dot for the underlying's price, with a ring where
 * the underlying itself is held (or sold).
 */
export function LegGlyph({ glyph, width = 96, line = 18 }: { glyph: Glyph; width?: number; line?: number }) {
  const options = glyph.legs.filter((leg) => leg.right !== "unit");
  const units = glyph.legs.find((leg) => leg.right === "unit");
  const expirations = [...new Set(options.map((leg) => leg.expiration))].sort();
  const height = Math.max(1, expirations.length) * line + 6;
  const places = [...options.map((leg) => leg.strike), glyph.spot];
  const low = Math.min(...places);
  const span = Math.max(...places) - low || 1;
  const x = (price: number) => PAD + ((price - low) / span) * (width - 2 * PAD);
  const most = Math.max(1, ...options.map((leg) => Math.abs(leg.contracts)));
  const middle = (row: number) => 3 + line * (row + 0.5);
  return (
    <svg width={width} height={height} role="img" aria-label={describe(glyph)} className="shrink-0">
      {(expirations.length ? expirations : [""]).map((expiration, row) => (
        <line
          key={expiration}
          x1={2}
          x2={width - 2}
          y1={middle(row)}
          y2={middle(row)}
          stroke="var(--hairline)"
          strokeWidth={1.5}
        />
      ))}
      {options.map((leg) => {
        const row = expirations.indexOf(leg.expiration);
        const tall = (line / 2 - 1) * (0.45 + 0.55 * (Math.abs(leg.contracts) / most));
        const up = leg.contracts > 0 ? -1 : 1;
        const lean = leg.right === "call" ? 3 : -3;
        const at = x(leg.strike);
        return (
          <line
            key={`${leg.expiration}${leg.right}${leg.strike}`}
            x1={at - lean / 2}
            x2={at + lean / 2}
            y1={middle(row)}
            y2={middle(row) + up * tall}
            stroke={leg.contracts > 0 ? "var(--sea)" : "var(--loss)"}
            strokeWidth={2.4}
          />
        );
      })}
      {(expirations.length ? expirations : [""]).map((expiration, row) => (
        <circle key={expiration} cx={x(glyph.spot)} cy={middle(row)} r={2} fill="var(--ink)" />
      ))}
      {units && (
        <circle
          cx={x(glyph.spot)}
          cy={middle(0)}
          r={5}
          fill="none"
          stroke={units.contracts > 0 ? "var(--sea)" : "var(--loss)"}
          strokeWidth={1.5}
        />
      )}
    </svg>
  );
}
