import { expect, test } from "vitest";
import { add, type Leg, read, write } from "./basket";

const leg = (contract: string | null, contracts: number, opened: number | null = null): Leg => ({
  contract,
  contracts,
  opened,
});

test("what is written is read again", () => {
  const legs = [
    leg("MK30/2026-11-27P3190", -2, 12.35),
    leg("MK30/2026-11-27C3220.5", 1),
    leg(null, 100, 3200),
  ];
  expect(read(write(legs))).toEqual(legs);
});

test("junk in an address is left out, the rest stays", () => {
  expect(read(null)).toEqual([]);
  expect(read("")).toEqual([]);
  expect(read("1*A,two*B,*,3*,-1*C@x,2*D@1.5@2,-4*E@7")).toEqual([leg("A", 1), leg("E", -4, 7)]);
});

test("like contracts are averaged", () => {
  expect(add([leg("A", 1, 10)], leg("A", 3, 12))).toEqual([leg("A", 4, 11.5)]);
  expect(add([leg("A", -1, 10)], leg("A", -2, 11))).toEqual([leg("A", -3, 10.6667)]);
  expect(add([leg("A", 2, 10)], leg("A", 1))).toEqual([leg("A", 3, 10)]);
});

test("opposite contracts meet, and what is left keeps the price it was opened at", () => {
  expect(add([leg("A", 2, 10)], leg("A", -2, 12))).toEqual([]);
  expect(add([leg("A", 3, 10)], leg("A", -1, 12))).toEqual([leg("A", 2, 10)]);
  expect(add([leg("A", 1, 10)], leg("A", -3, 12))).toEqual([leg("A", -2, 12)]);
});

test("other contracts stay where they are", () => {
  const legs = [leg("A", 1), leg(null, 100), leg("B", -1)];
  expect(add(legs, leg(null, -40, 3100))).toEqual([legs[0], leg(null, 60), legs[2]]);
  expect(add(legs, leg("C", 1))).toEqual([...legs, leg("C", 1)]);
});
