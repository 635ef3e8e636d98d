import { expect, test } from "vitest";
import { keys, type QueryKey, renewedBy, writes } from "./keys";

const covers = (wide: QueryKey, narrow: QueryKey) => wide.every((part, place) => narrow[place] === part);

test("a key without its last part stands for all that begin with it", () => {
  expect(keys.run(undefined)).toEqual(["run"]);
  expect(covers(keys.run(), keys.run(7))).toBe(true);
  expect(covers(keys.run(7), keys.run(8))).toBe(false);
  expect(covers(keys.run(), keys.runs())).toBe(false);
});

test("names of keys are told apart", () => {
  const names = Object.values(keys).map((key) => key()[0]);
  expect(new Set(names).size).toBe(names.length);
});

test("a push renews what shows it and nothing of another account", () => {
  const renewed = renewedBy.order!({ topic: "order", id: 3, account: 2 });
  expect(renewed.some((key) => covers(key, keys.desk(2)))).toBe(true);
  expect(renewed.some((key) => covers(key, keys.desk(1)))).toBe(false);
  expect(renewedBy.everything!({ topic: "everything" }).every((key) => covers(key, keys.trade(1, 2)))).toBe(
    true,
  );
});

test("a run that was deleted is not asked for again", () => {
  expect(writes.deletedRun.some((key) => covers(key, keys.run(5)))).toBe(false);
  expect(writes.run.some((key) => covers(key, keys.run(5)))).toBe(true);
});
