import { expect, test } from "vitest";
import type { Document } from "../../api/queries";
import {
  type Block,
  type Declarations,
  doubled,
  entryAt,
  inserted,
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

test("what is added stands at the end of its list, as it was offered", () => {
  const item = { rule: "days_held", days: 3, time: "15:45" };
  const after = inserted(sheet(), "leave", item);
  expect(valueAt(after, "leave/3")).toEqual(item);
  expect(order(after)).toEqual(["x", "y", "z", undefined]);
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
