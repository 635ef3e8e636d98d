import { expect, test } from "vitest";
import type { Document } from "../../api/queries";
import {
  added,
  type Block,
  type Declaration,
  type Declarations,
  doubled,
  entryAt,
  holds,
  moved,
  removed,
  renamedEntry,
  type Sentence,
  switched,
  tradedBy,
  tradersOf,
  valueAt,
  withNote,
  withoutEntry,
  withUnderlyings,
  withValue,
} from "./document";

const sheet = () =>
  ({
    name: "Test",
    entries: [{ legs: [{ id: "a", rule: "leg", strike: { pick: "nearest_delta", delta: 0.2 } }] }],
    leave: [
      { id: "x", rule: "credit_target", percent: 50 },
      { id: "y", rule: "premium_stop" },
      { id: "z", rule: "days_held" },
    ],
  }) as unknown as Document;

const at = (path: string, index: number) => ({ path, index }) as Sentence;
const order = (document: Document) =>
  (valueAt(document, "leave") as { id?: string }[]).map((item) => item.id);

test("a value deep in the sheet is read, and changed in a copy", () => {
  const before = sheet();
  const path = "entries/0/legs/0/strike/delta";
  const after = withValue(before, path, 0.3);
  expect([valueAt(before, path), valueAt(after, path)]).toEqual([0.2, 0.3]);
  expect(valueAt(before, "entries/7/legs")).toBeUndefined();
  expect([holds(before, "leave", "days_held"), holds(before, "leave", "trailing_profit")]).toEqual([
    true,
    false,
  ]);
});

test("sentences are switched, noted, removed; the sheet before stays as it was", () => {
  const before = sheet();
  const off = switched(before, at("leave", 1));
  expect(valueAt(off, "leave/1/off")).toBe(true);
  expect(valueAt(switched(off, at("leave", 1)), "leave/1/off")).toBe(false);
  const noted = withNote(before, at("leave", 0), "why");
  expect(valueAt(noted, "leave/0/note")).toBe("why");
  expect(valueAt(withNote(noted, at("leave", 0), ""), "leave/0")).not.toHaveProperty("note");
  expect(order(removed(before, at("leave", 1)))).toEqual(["x", "z"]);
  expect(before).toEqual(sheet());
});

test("a double stands behind its original and gets a name of its own later", () => {
  const after = doubled(sheet(), at("leave", 0));
  expect(order(after)).toEqual(["x", undefined, "y", "z"]);
  expect(valueAt(after, "leave/1/percent")).toBe(50);
});

test("moving stops at both ends", () => {
  expect(order(moved(sheet(), at("leave", 0), 1))).toEqual(["y", "x", "z"]);
  expect(order(moved(sheet(), at("leave", 0), 9))).toEqual(["y", "z", "x"]);
  expect(order(moved(sheet(), at("leave", 2), -9))).toEqual(["z", "x", "y"]);
});

test("a first leg picks its expiration, a later one shares it", () => {
  const empty = withValue(sheet(), "entries/0/legs", []);
  const leg = { id: "leg" } as Declaration;
  const once = added(empty, "entries/0/legs", leg);
  const twice = added(once, "entries/0/legs", leg);
  expect(valueAt(once, "entries/0/legs/0/expiry/pick")).toBe("nearest_days");
  expect(valueAt(twice, "entries/0/legs/1/expiry/pick")).toBe("same_expiration");
  expect(valueAt(added(sheet(), "leave", { id: "days_held" } as Declaration), "leave/3")).toEqual({
    rule: "days_held",
  });
});

test("what opens a leg begins with one that is opened later, once the kept underlying is held", () => {
  const before = sheet();
  const legs = valueAt(before, "entries/0/legs") as unknown[];
  legs.push({ id: "shares", rule: "kept_units" }, { id: "call", rule: "later_leg" });
  const opens = {
    id: "open_leg",
    params: [
      { name: "left", kind: "value", default: { measure: "leg_contracts", leg: "" } },
      { name: "what", kind: "leg", default: "" },
    ],
  } as unknown as Declaration;
  const after = added({ ...before, adjust: [] } as Document, "adjust", opens, ["a", "shares", "call"]);
  expect(valueAt(after, "adjust/0")).toEqual({
    rule: "open_leg",
    left: { measure: "leg_contracts", leg: "shares" },
    what: "call",
  });
  const plain = added({ ...sheet(), adjust: [] } as Document, "adjust", opens, ["a"]);
  expect(valueAt(plain, "adjust/0/what")).toBe("a");
});

test("another underlying may be the clock: every entry goes on trading what it trades", () => {
  const entries = [{ id: "index" }, { id: "stock", underlying: "PLLM" }];
  const before = { underlyings: ["MK30", "PLLM"], entries } as unknown as Document;
  const after = withUnderlyings(before, ["PLLM", "MK30"]);
  expect(after.entries).toEqual([{ id: "index", underlying: "MK30" }, { id: "stock" }]);
  expect(withUnderlyings(after, ["MK30", "PLLM"])).toEqual(before);
  expect(tradersOf(before, "PLLM")).toEqual(["stock"]);
  expect(tradersOf(after, "MK30")).toEqual(["index"]);
  expect(tradedBy(before, 1, "MK30").entries).toEqual([{ id: "index" }, { id: "stock" }]);
  expect(tradedBy(before, 0, "PLLM").entries).toEqual([{ id: "index", underlying: "PLLM" }, entries[1]]);
});

test("what names an entry is renamed with it", () => {
  const turn = { rule: "turn", entry: "two", as: "two" };
  const raw = {
    entries: [{ id: "one", when: [{ rule: "after", entry: "two" }] }, { id: "two" }],
    leave: [turn],
  };
  const sentences = [
    {
      id: "turn",
      part: "leave",
      params: [
        { name: "entry", kind: "entry" },
        { name: "as", kind: "choice" },
      ],
    },
    { id: "after", part: "when", params: [{ name: "entry", kind: "entry" }] },
  ];
  const declarations = { sections: [{ sentences }] } as unknown as Declarations;
  const renamed = renamedEntry(raw as unknown as Document, 1, "later", declarations);
  expect(renamed).toEqual({
    entries: [{ id: "one", when: [{ rule: "after", entry: "later" }] }, { id: "later" }],
    leave: [{ ...turn, entry: "later" }],
  });
  // a new one names another entry than its own, where there is one
  const after = { id: "after", params: sentences[1]!.params } as unknown as Declaration;
  const both = {
    entries: [
      { id: "one", when: [], legs: [] },
      { id: "two", when: [], legs: [] },
    ],
  };
  const named = (path: string) =>
    (valueAt(added(both as unknown as Document, path, after), path) as { entry: string }[])[0]!.entry;
  expect([named("entries/1/when"), named("entries/0/when")]).toEqual(["one", "two"]);
});

test("entries are renamed and removed by the section they stand in", () => {
  const document = { underlyings: ["MK30"], entries: [{ id: "one" }, { id: "two" }] } as unknown as Document;
  const block = { section: "enter", title: "Enter: two", entry: "two", lists: { when: "entries/1/when" } };
  const place = entryAt(block as unknown as Block);
  const declarations = { sections: [] } as unknown as Declarations;
  expect(renamedEntry(document, place, "later", declarations).entries).toEqual([
    { id: "one" },
    { id: "later" },
  ]);
  expect(withoutEntry(document, place).entries).toEqual([{ id: "one" }]);
  expect(document.entries).toHaveLength(2);
});
