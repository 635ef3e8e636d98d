import type { Schemas } from "../../api/client";
import { number } from "../../ui/format";

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
            <th>{head[0]}</th>
            <th className="number">{head[1]}</th>
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
