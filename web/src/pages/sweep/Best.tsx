import type { Schemas } from "../../api/client";
import { number, percent, signed, tone } from "../../ui/format";
import { Th } from "../../ui/Th";
import { shown, textOf } from "./SweepView";

interface Props {
  sweep: Schemas["SweepOut"];
  figure: string;
  near: boolean;
  chosen: number | null;
  choose: (place: number) => void;
}

const SHOWN = 12;

/** The best variants by what the map shows. */
export function Best({ sweep, figure, near, chosen, choose }: Props) {
  const text = textOf(sweep, figure);
  const title = sweep.figures.find((item) => item.id === figure)?.title ?? "";
  const ranked = sweep.cells
    .flatMap((cell) => {
      const value = shown(cell, figure, near);
      return value === null ? [] : [{ cell, value }];
    })
    .sort((a, b) => b.value - a.value)
    .slice(0, SHOWN);
  if (ranked.length === 0) return <p className="text-soft">No variant has a value yet.</p>;
  return (
    <section className="card overflow-x-auto" aria-label="The best variants">
      <table className="plain">
        <thead>
          <tr>
            {sweep.dials.map((dial) => (
              <Th key={dial.label + dial.paths[0]}>{dial.label}</Th>
            ))}
            <Th className="number">
              {title}
              {near ? ", with neighbours" : ""}
            </Th>
            <Th className="number">{near ? "alone" : "with neighbours"}</Th>
            <Th className="number">Trades</Th>
            <Th className="number">Won</Th>
            <Th className="number">A trade</Th>
          </tr>
        </thead>
        <tbody>
          {ranked.map(({ cell, value }) => {
            const other = shown(cell, figure, !near);
            const each = cell.figures?.trades_expectancy as number | null;
            return (
              <tr
                key={cell.place}
                className={`cursor-pointer hover:bg-mark ${cell.place === chosen ? "bg-mark" : ""}`}
                onClick={() => choose(cell.place)}
              >
                {sweep.dials.map((dial, i) => (
                  <td key={dial.label + dial.paths[0]}>
                    {i === 0 ? (
                      <button type="button" className="link" onClick={() => choose(cell.place)}>
                        {dial.values[cell.at[i]!]}
                      </button>
                    ) : (
                      dial.values[cell.at[i]!]
                    )}
                  </td>
                ))}
                <td className="number font-semibold">{text(value)}</td>
                <td className="number">{other === null ? "–" : text(other)}</td>
                <td className="number">{number(cell.figures?.trades_count as number)}</td>
                <td className="number">{percent(cell.figures?.trades_win_rate as number | null, 0)}</td>
                <td className={`number ${tone(each)}`}>{signed(each)}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </section>
  );
}
