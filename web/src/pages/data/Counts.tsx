import type { Schemas } from "../../api/client";
import { number } from "../../ui/format";
import { Th } from "../../ui/Th";

/** What was counted, and how often. */
export function Counts({
  rows,
  label,
  head,
}: {
  rows: Schemas["CountOut"][];
  label: string;
  head?: [string, string];
}) {
  return (
    <table className={`plain ${head ? "card" : ""}`} aria-label={label}>
      {head && (
        <thead>
          <tr>
            <Th>{head[0]}</Th>
            <Th className="number">{head[1]}</Th>
          </tr>
        </thead>
      )}
      <tbody>
        {rows.map((row) => (
          <tr key={row.what}>
            <td className={`whitespace-normal! ${head ? "" : "text-soft"}`}>{row.what}</td>
            <td className="number">{number(row.count)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
