import type { Preview } from "../../api/data";
import { date, number } from "../../ui/format";

/** The first rows as they would be read, and what is set aside of them. */
export function FirstRows({ seen }: { seen: Preview }) {
  return (
    <section className="card" aria-label="First rows">
      {seen.problems.length > 0 ? (
        <ul className="px-3 py-2 text-loss" role="alert">
          {seen.problems.map((problem) => (
            <li key={problem.path + problem.message}>{problem.message}</li>
          ))}
        </ul>
      ) : (
        <p className="border-b px-3 py-1.5 text-soft">
          Of the first {number(seen.rows)} rows{" "}
          {seen.rejected.length === 0
            ? "all can be used."
            : `${number(seen.rejected.reduce((sum, row) => sum + row.count, 0))} are set aside: ${seen.rejected
                .map((row) => `${number(row.count)} × ${row.what}`)
                .join("; ")}.`}
        </p>
      )}
      {seen.quotes.length > 0 && (
        <table className="plain" aria-label="Rows as they are read">
          <thead>
            <tr>
              <th>At</th>
              <th>On</th>
              <th>Expiration</th>
              <th className="number">Strike</th>
              <th>Right</th>
              <th className="number">Bid</th>
              <th className="number">Ask</th>
              <th className="number">Underlying</th>
            </tr>
          </thead>
          <tbody>
            {seen.quotes.slice(0, 6).map((row, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: rows of a file in their order
              <tr key={i}>
                <td>{row.at}</td>
                <td>{row.symbol}</td>
                <td>{date(row.expiration)}</td>
                <td className="number">{row.strike}</td>
                <td>{row.right}</td>
                <td className="number">{number(row.bid, 2)}</td>
                <td className="number">{number(row.ask, 2)}</td>
                <td className="number">{number(row.spot, 2)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {seen.records.length > 0 && (
        <table className="plain" aria-label="Rows as they are read">
          <thead>
            <tr>
              <th>On</th>
              <th>Date</th>
              <th>Time</th>
              <th>What</th>
            </tr>
          </thead>
          <tbody>
            {seen.records.slice(0, 8).map((row, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: rows of a file in their order
              <tr key={i}>
                <td>{row.subject}</td>
                <td>{date(row.date)}</td>
                <td>{row.at ?? ""}</td>
                <td>
                  {Object.entries(row.values)
                    .map(([name, value]) => (name === "event" ? String(value) : `${name} ${value}`))
                    .join(", ")}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {seen.quotes.length === 0 && seen.records.length === 0 && seen.cells.length > 0 && (
        <table className="plain" aria-label="Rows of the file">
          <thead>
            <tr>
              {seen.names.map((name) => (
                <th key={name}>{name}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {seen.cells.slice(0, 5).map((row, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: rows of a file in their order
              <tr key={i}>
                {row.map((cell, j) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: cells of a row in their order
                  <td key={j}>{cell}</td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}
