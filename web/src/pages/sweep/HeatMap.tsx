import type { Schemas } from "../../api/client";

type Dial = Schemas["DialOut"];

export interface Tile {
  place: number;
  at: number[];
  value: number | null;
  /** What it says where it has no value. */
  none: string;
}

interface Props {
  across: Dial;
  down: Dial | null;
  tiles: Tile[];
  /** Index of the value of each dial that a tile stands for. */
  acrossOf: (tile: Tile) => number;
  downOf: (tile: Tile) => number;
  text: (value: number) => string;
  chosen: number | null;
  choose: (place: number) => void;
}

/** How strongly a value is coloured, in percent, and in which ink: losses and gains where there are both. */
function shade(value: number, low: number, high: number): { ink: string; strength: number } {
  if (low < 0 && high > 0) {
    const most = Math.max(-low, high);
    return { ink: value < 0 ? "loss" : "gain", strength: (62 * Math.abs(value)) / most };
  }
  const strength = high > low ? (62 * (value - low)) / (high - low) : 30;
  return high <= 0 ? { ink: "loss", strength: 62 - strength } : { ink: "gain", strength };
}

/** Every variant by the values of two dials; darker is farther from nothing. The sheet's own values are framed. */
export function HeatMap({ across, down, tiles, acrossOf, downOf, text, chosen, choose }: Props) {
  const known = tiles.flatMap((tile) => (tile.value === null ? [] : [tile.value]));
  const [low, high] = [Math.min(...known), Math.max(...known)];
  const at = new Map(tiles.map((tile) => [`${acrossOf(tile)} ${downOf(tile)}`, tile]));
  const rows = down ? down.values : [""];
  const narrow = across.values.length > 16;
  return (
    <div className="overflow-x-auto">
      <table className="border-separate border-spacing-0.5" aria-label="Variants">
        <thead>
          <tr>
            <th scope="col" className="px-2 text-left text-xs font-normal text-soft">
              {down && `${down.label} ↓ `}
              {across.label} →
            </th>
            {across.values.map((value, i) => (
              <th
                key={value}
                scope="col"
                className={`px-1 text-xs font-normal whitespace-nowrap ${i === across.now ? "font-semibold text-ink" : "text-soft"}`}
              >
                {value}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((row, r) => (
            <tr key={row}>
              <th
                scope="row"
                className={`px-2 text-left text-xs font-normal whitespace-nowrap ${down && r === down.now ? "font-semibold text-ink" : "text-soft"}`}
              >
                {row}
              </th>
              {across.values.map((value, i) => {
                const tile = at.get(`${i} ${r}`);
                if (!tile) return <td key={value} />;
                const colour = tile.value === null ? null : shade(tile.value, low, high);
                const own = i === across.now && (!down || r === down.now);
                const said = tile.value === null ? tile.none : text(tile.value);
                return (
                  <td key={value} className="p-0">
                    <button
                      type="button"
                      aria-pressed={chosen === tile.place}
                      aria-label={`${across.label} ${value}${down ? `, ${down.label} ${row}` : ""}: ${said}`}
                      title={said}
                      className={`h-7 w-full ${narrow ? "min-w-6" : "min-w-14"} rounded-xs px-1 text-xs ${chosen === tile.place ? "outline-2 outline-ink" : own ? "outline-1 outline-soft outline-dashed" : ""}`}
                      style={
                        colour
                          ? {
                              background: `color-mix(in srgb, var(--${colour.ink}) ${colour.strength.toFixed(0)}%, var(--surface))`,
                            }
                          : undefined
                      }
                      onClick={() => choose(tile.place)}
                    >
                      {narrow ? "" : said}
                    </button>
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
