import type { Preview } from "../../api/data";
import { date, number } from "../../ui/format";
import { Th } from "../../ui/Th";

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
              <Th>At</Th>
              <Th>On</Th>
              <Th>Expiration</Th>
              <Th className="number">Strike</Th>
              <Th>Right</Th>
              <Th className="number">Bid</Th>
              <Th className="number">Ask</Th>
              <Th className="number">Underlying</Th>
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
              <Th>On</Th>
              <Th>Date</Th>
              <Th>Time</Th>
              <Th>What</Th>
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
                <Th key={name}>{name}</Th>
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
