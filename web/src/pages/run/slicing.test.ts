import { expect, test } from "vitest";
import type { Schemas } from "../../api/client";
import { asRules, sliced } from "./slicing";

type Column = Schemas["ColumnOut"];

function column(
  id: string,
  measure: boolean,
  cells: [string, number | null, number | null, boolean][],
): Column {
  return {
    id,
    title: id,
    measure,
    cells: cells.map(([key, low, high, chosen]) => ({
      key,
      low,
      high,
      chosen,
      title: key,
      count: 1,
      win_rate: 1,
      mean: 1,
      likely: null,
      total: 1,
      apart: false,
    })),
  };
}

const weekday = column("weekday", false, [
  ["Mon", null, null, true],
  ["Wed", null, null, false],
]);
const document = {
  entries: [
    { when: [{ rule: "decision_times", weekdays: ["mon", "wed"] }], conditions: [{ rule: "open_limit" }] },
  ],
};

test("chosen weekdays are what is left of the schedule", () => {
  expect(sliced(document, [weekday])).toEqual({
    entries: [
      { when: [{ rule: "decision_times", weekdays: ["mon"] }], conditions: [{ rule: "open_limit" }] },
    ],
  });
  expect(document.entries[0]!.when[0]!.weekdays).toEqual(["mon", "wed"]);
});

test("ranges of a measure that lie side by side are one condition", () => {
  const rank = column("iv_rank", true, [
    ["0", null, 20, false],
    ["1", 20, 35, true],
    ["2", 35, 60, true],
    ["3", 60, null, false],
  ]);
  const made = sliced(document, [rank]) as typeof document;
  expect(made.entries[0]!.conditions[1]).toEqual({
    rule: "condition",
    left: { measure: "iv_rank" },
    is: "at least",
    right: 20,
    also: [{ left: { measure: "iv_rank" }, is: "below", right: 60 }],
  });
});

test("an open end asks for one comparison", () => {
  const low = column("iv_rank", true, [
    ["0", null, 20, true],
    ["1", 20, null, false],
  ]);
  const made = sliced(document, [low]) as typeof document;
  expect(made.entries[0]!.conditions[1]).toEqual({
    rule: "condition",
    left: { measure: "iv_rank" },
    is: "below",
    right: 20,
  });
});

test("what no rule can ask for is left alone", () => {
  const apart = column("iv_rank", true, [
    ["0", null, 20, true],
    ["1", 20, 35, false],
    ["2", 35, null, true],
  ]);
  const none = column("iv_rank", true, [["none", null, null, true]]);
  const exit = column("exit", false, [["s6", null, null, true]]);
  expect(asRules([apart, none, exit])).toEqual([]);
  expect(sliced(document, [apart, none, exit])).toEqual(document);
});
