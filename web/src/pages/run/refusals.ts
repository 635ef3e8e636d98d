/** Decisions of a run by the sentence that decided, and by month. */
import type { Schemas } from "../../api/client";

type Decision = Schemas["DecisionOut"];
type Sentence = Schemas["SentenceOut"];

export interface RefusalRow {
  id: string;
  sentence: number | null;
  title: string;
  entered: boolean;
  count: number;
  /** Decisions by month, as "2026-11". */
  by: Record<string, Decision[]>;
}

export interface Refusals {
  name: string;
  count: number;
  months: string[];
  rows: RefusalRow[];
}

const ENTERED = "entered";

/** Of every entry in the sheet's order: what was entered, then sentences by how often they said no. What a limit of the whole
 *  strategy refused stands with the strategy. */
export function byEntry(decisions: Decision[], sheet: Sentence[]): Refusals[] {
  const known = new Map(sheet.map((sentence) => [sentence.id, sentence]));
  const found = new Map<string, Decision[]>();
  for (const decision of decisions) {
    const entry = known.get(decision.rule)?.entry ?? "";
    const own = found.get(entry) ?? [];
    own.push(decision);
    found.set(entry, own);
  }
  const order = [...new Set([...sheet.map((sentence) => sentence.entry), ...found.keys()])];
  return order.flatMap((entry) => {
    const own = found.get(entry);
    return own ? [tableOf(entry, own, known)] : [];
  });
}

function tableOf(entry: string, decisions: Decision[], known: Map<string, Sentence>): Refusals {
  const rows = new Map<string, RefusalRow>();
  for (const decision of decisions) {
    const entered = decision.kind === "entry";
    const id = entered ? ENTERED : decision.rule;
    const sentence = known.get(decision.rule);
    const row = rows.get(id) ?? {
      id,
      sentence: entered ? null : (sentence?.number ?? null),
      title: entered ? "entered" : (sentence?.text ?? decision.rule),
      entered,
      count: 0,
      by: {},
    };
    const month = decision.local.slice(0, 7);
    const own = row.by[month] ?? [];
    own.push(decision);
    row.by[month] = own;
    row.count += 1;
    rows.set(id, row);
  }
  return {
    name: entry || "The whole strategy",
    count: decisions.length,
    months: monthsBetween(decisions[0]!.local.slice(0, 7), decisions.at(-1)!.local.slice(0, 7)),
    rows: [...rows.values()].sort((a, b) => Number(b.entered) - Number(a.entered) || b.count - a.count),
  };
}

function monthsBetween(first: string, last: string): string[] {
  const out = [];
  let [year = 0, month = 1] = first.split("-").map(Number);
  while (`${year}-${String(month).padStart(2, "0")}` <= last) {
    out.push(`${year}-${String(month).padStart(2, "0")}`);
    month += 1;
    if (month > 12) {
      month = 1;
      year += 1;
    }
  }
  return out;
}
