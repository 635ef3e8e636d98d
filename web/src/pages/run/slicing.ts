/** A slice of a run's trades as rules: what was known when they were decided. */
import type { Schemas } from "../../api/client";
import type { Document } from "../../api/queries";

type Column = Schemas["ColumnOut"];
type Cell = Schemas["CellOut"];

interface Rules {
  entries: { when: Record<string, unknown>[]; conditions: Record<string, unknown>[] }[];
}

/** The range that neighbouring cells make together; null where others stand between them, or one has no value. */
function range(column: Column): { low: number | null; high: number | null } | null {
  const places = column.cells.flatMap((cell, place) => (cell.chosen ? [place] : []));
  const cells = places.map((place) => column.cells[place]!);
  const next = places.every((place, i) => i === 0 || place === places[i - 1]! + 1);
  if (!next || cells.some((cell) => cell.key === "none")) return null;
  return { low: cells[0]!.low, high: cells.at(-1)!.high };
}

function condition(measure: string, { low, high }: { low: number | null; high: number | null }) {
  const left = { measure };
  const least = { left, is: "at least", right: low };
  const below = { left, is: "below", right: high };
  if (low === null) return { rule: "condition", ...below };
  return { rule: "condition", ...least, ...(high === null ? {} : { also: [below] }) };
}

const isChosen = (column: Column) => column.cells.some((cell: Cell) => cell.chosen);

/** Columns with a choice that a rule can ask for: weekdays, and measures whose chosen ranges lie side by side. */
export const asRules = (columns: Column[]): Column[] =>
  columns.filter(
    (column) => isChosen(column) && (column.id === "weekday" || (column.measure && range(column) !== null)),
  );

/** The document with entries on the chosen weekdays only, and a condition for every measure that was chosen. */
export function sliced(document: Document, columns: Column[]): Document {
  const copy = structuredClone(document) as unknown as Rules;
  for (const column of asRules(columns)) {
    const span = column.measure ? range(column) : null;
    const days = column.cells.filter((cell) => cell.chosen).map((cell) => cell.key.toLowerCase());
    for (const entry of copy.entries) {
      if (span && (span.low !== null || span.high !== null))
        entry.conditions.push(condition(column.id, span));
      if (!column.measure)
        for (const when of entry.when)
          if (Array.isArray(when.weekdays)) {
            const kept = when.weekdays.filter((day) => days.includes(String(day)));
            if (kept.length > 0) when.weekdays = kept;
          }
    }
  }
  return copy as unknown as Document;
}
