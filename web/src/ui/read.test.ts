import { describe, expect, it } from "vitest";
import { plainNumber, readDate, readInstant, separatorProblem } from "./read";

describe("dates", () => {
  it.each([
    ["18 Nov 2026", "2026-11-18"],
    ["18. november 2026", "2026-11-18"],
    ["Nov 18, 2026", "2026-11-18"],
    ["Wed 18 Nov 2026", "2026-11-18"],
    ["2026-11-8", "2026-11-08"],
    ["29 Feb 2028", "2028-02-29"],
  ])("%s is one day", (text, iso) => expect(readDate(text)).toBe(iso));
  it.each(["3/4/2026", "03.04.2026", "29 Feb 2026", "31 Apr 2026", "soon", "", "18 Nov", "2026-13-01"])(
    "%s is none",
    (text) => expect(readDate(text)).toBeNull(),
  );
  it("has a time of day behind it where an instant is meant", () => {
    expect(readInstant("18 Nov 2026 9:05")).toBe("2026-11-18T09:05");
    expect(readInstant("2026-11-18T15:45")).toBe("2026-11-18T15:45");
    for (const text of ["18 Nov 2026", "18 Nov 2026 24:00", "18 Nov 2026 9:5", "9:05"])
      expect(readInstant(text)).toBeNull();
  });
});

describe("numbers", () => {
  it.each([
    ["50 000", "50000"],
    ["1,5", "1.5"],
    ["0,300", "0.300"],
    ["1,500.25", "1500.25"],
    ["1.500,25", "1500.25"],
    ["1.234.567", "1234567"],
    ["1,234,567", "1234567"],
    ["−2.5", "-2.5"],
    ["12.3456", "12.3456"],
    ["abc", "abc"],
  ])("%s is %s", (text, plain) => {
    expect(plainNumber(text)).toBe(plain);
    expect(separatorProblem(text)).toBeNull();
  });
  it.each(["50.000", "1,500", "-1.500"])("%s can be read two ways and is no number", (text) => {
    expect(Number(plainNumber(text))).toBeNaN();
    expect(separatorProblem(text)).toContain("two ways");
  });
});
