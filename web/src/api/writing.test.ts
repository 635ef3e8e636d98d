import { describe, expect, it } from "vitest";
import { begin, end, waits } from "./writing";

describe("a push while a strategy is written", () => {
  it("waits for the answer", () => {
    expect(waits(7)).toBe(false);
    begin(7);
    expect(waits(7)).toBe(true);
    expect(waits(8)).toBe(false);
    expect(waits(undefined)).toBe(false);
    expect(end(7, false)).toBe(false);
    expect(waits(7)).toBe(false);
  });
  it("is asked about when somebody else wrote as well", () => {
    begin(7);
    waits(7);
    waits(7);
    expect(end(7, false)).toBe(true);
  });
  it("is asked about when the write was behind", () => {
    begin(7);
    expect(end(7, true)).toBe(true);
  });
});
