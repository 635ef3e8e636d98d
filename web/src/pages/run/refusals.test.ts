import { describe, expect, it } from "vitest";
import type { Schemas } from "../../api/client";
import { byEntry } from "./refusals";

const sentence = (id: string, number: number, entry: string) =>
  ({ id, number, entry, text: `sentence ${id}` }) as Schemas["SentenceOut"];
const decision = (local: string, rule: string, kind = "no entry") =>
  ({ at: Date.parse(local) / 1000, local, rule, kind, text: rule, trade: null }) as Schemas["DecisionOut"];
const SHEET = [sentence("when", 1, ""), sentence("iv", 2, ""), sentence("rsi", 3, "")];

describe("byEntry", () => {
  it("counts by the sentence that decided and by month, entries first", () => {
    const [only, ...others] = byEntry(
      [
        decision("2025-12-01T15:45", "iv"),
        decision("2025-12-03T15:45", "rsi"),
        decision("2026-02-02T15:45", "rsi"),
        decision("2026-02-04T15:45", "when", "entry"),
      ],
      SHEET,
    );
    expect(others).toEqual([]);
    expect(only!.months).toEqual(["2025-12", "2026-01", "2026-02"]);
    expect(only!.rows.map((row) => [row.id, row.sentence, row.count])).toEqual([
      ["entered", null, 1],
      ["rsi", 3, 2],
      ["iv", 2, 1],
    ]);
    expect(only!.rows[1]!.by["2026-02"]!.map((item) => item.local)).toEqual(["2026-02-02T15:45"]);
  });

  it("keeps entries apart, in the sheet's order", () => {
    const sheet = [sentence("a", 1, "calls"), sentence("b", 2, "puts"), sentence("limit", 3, "")];
    const found = byEntry(
      [
        decision("2026-02-02T15:45", "b"),
        decision("2026-02-02T15:45", "a"),
        decision("2026-02-03T15:45", "limit"),
      ],
      sheet,
    );
    expect(found.map((entry) => [entry.name, entry.count])).toEqual([
      ["calls", 1],
      ["puts", 1],
      ["The whole strategy", 1],
    ]);
  });
});
