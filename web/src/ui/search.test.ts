import { expect, test } from "vitest";
import { fits } from "./search";

const LIMIT = "No entry while limit pause per day no_entry";
const LINKED = "entry Close one leg, the other stops at its entry while stop link";

test("the very words come before the same letters somewhere", () => {
  expect(fits(LIMIT, "no entry while")).toBeGreaterThan(fits(LINKED, "no entry while"));
  expect(fits(LIMIT, "No Entry")).toBeGreaterThan(0.9);
});

test("words in any order come before letters in order", () => {
  const words = fits(LIMIT, "pause limit");
  expect(words).toBe(0.5);
  expect(fits("Neat onset, entropy", "no ent")).toBeLessThan(words);
});

test("what begins with it comes before what has it later", () => {
  expect(fits("Delta of a leg", "delta")).toBeGreaterThan(fits("Net delta", "delta"));
});

test("what has none of the letters does not fit", () => {
  expect(fits(LIMIT, "zzz")).toBe(0);
});
