import { expect, test } from "vitest";
import { clock, date, day, number, percent, plural, signed, signedPercent, tone } from "./format";

test("thousands are grouped, minus is a minus sign, nothing is a dash", () => {
  expect(number(1234567.891, 2)).toBe("1\u00a0234\u00a0567.89");
  expect(number(-999)).toBe("−999");
  expect(number(0.5, 0)).toBe("1");
  for (const nothing of [null, undefined, Number.NaN, Number.POSITIVE_INFINITY]) {
    expect(number(nothing)).toBe("–");
  }
});

test("what rounds to zero has no sign", () => {
  expect(number(-0.004, 2)).toBe("0.00");
  expect(signed(0.004, 2)).toBe("0.00");
  expect(signed(-0)).toBe("0");
  expect(signed(12.5, 1)).toBe("+12.5");
  expect(signed(null)).toBe("–");
});

test("shares are percents", () => {
  expect(percent(0.1234)).toBe("12.3\u00a0%");
  expect(signedPercent(0.05, 0)).toBe("+5\u00a0%");
  expect(signedPercent(-0.05, 0)).toBe("−5\u00a0%");
  expect(percent(undefined)).toBe("–");
});

test("gains and losses have their tone, nothing has none", () => {
  expect([tone(1), tone(-1), tone(0), tone(null)]).toEqual(["text-gain", "text-loss", "", ""]);
});

test("dates do not move with the reader's time zone", () => {
  expect(date("2026-11-04T23:59:59Z")).toBe("4 Nov 2026");
  expect(date("")).toBe("–");
  expect(day("2026-11-04")).toBe("Wed 4 Nov");
  expect(day("2028-02-29")).toBe("Tue 29 Feb");
});

test("seconds as a clock, counts with their noun", () => {
  expect([clock(0), clock(59.6), clock(-3), clock(3601)]).toEqual(["0:00", "1:00", "0:00", "60:01"]);
  expect([plural(1, "trade"), plural(0, "trade"), plural(2, "entry", "entries")]).toEqual([
    "1 trade",
    "0 trades",
    "2 entries",
  ]);
});
