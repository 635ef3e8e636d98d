import { expect, test } from "vitest";
import { apart, lines } from "./holdings";

const leg = (contract: string, label = contract) => ({ contract, label });

test("legs stand by themselves, each in its place", () => {
  const found = lines([leg("X/unit", "X itself"), leg("X/2026-01-16/call/50")]);
  expect(found.map((line) => line.label)).toEqual(["X itself", "X/2026-01-16/call/50"]);
});

test("several holdings of the underlying are one line, the last", () => {
  const found = lines([leg("X/unit/100", "X units"), leg("a"), leg("X/unit/100", "X units"), leg("b")]);
  expect(found.map((line) => line.label)).toEqual(["a", "b", "X units, 2 holdings one after the other"]);
  expect(found[2]!.legs.map((item) => item.place)).toEqual([0, 2]);
});

test("labels that are the same are told apart", () => {
  expect(apart(["a", "b", "a", "a"])).toEqual(["a", "b", "a (2)", "a (3)"]);
});
