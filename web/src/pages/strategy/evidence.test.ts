import { expect, test } from "vitest";
import type { Schemas } from "../../api/client";
import { previewEvidence, runEvidence, silence } from "./evidence";
import { NO_EVIDENCE } from "./types";

test("an instant shows what each sentence says and which strike each leg takes", () => {
  const shown = previewEvidence({
    verdicts: [{ id: "if-iv", truth: "true" }],
    legs: [
      {
        id: "put",
        right: "put",
        candidates: [
          { strike: 3100, picked: false },
          { strike: 3150, picked: true },
        ],
      },
      { id: "call", right: "call", candidates: [] },
    ],
  } as unknown as Schemas["PreviewOut"]);
  expect(shown.of).toEqual({ "if-iv": "true", put: "3\u00a0150 put", call: "none" });
});

test("a run shows how often: exits by times, conditions of how many looks", () => {
  const shown = runEvidence({
    number: 4,
    sheet: [
      { id: "stop", section: "leave", part: "leave" },
      { id: "if-iv", section: "enter", part: "conditions" },
      { id: "wide", section: "legs", part: "checks" },
    ],
    evidence: {
      stop: { true: 12, no: 900, unvalued: 3, last: "2026-03-02", since: 700 },
      "if-iv": { true: 40, no: 58, unvalued: 2, last: "2026-11-17", since: 9 },
      wide: { true: 0, no: 10, unvalued: 1, last: null, since: 11 },
    },
  } as unknown as Schemas["RunOut"]);
  expect(shown).toEqual({
    title: "run 4",
    of: { stop: "12 ×", "if-iv": "40 of 100", wide: "0 ×" },
    remarks: { wide: "Never true in 11 decisions, run 4." },
  });
  expect(runEvidence(undefined)).toBe(NO_EVIDENCE);
});

test("a sentence that was in the way until a run's end is told, a limit or exit is not", () => {
  const asked = { true: 3, no: 30, unvalued: 0, last: "2026-03-03", since: 12 };
  expect(silence("legs", asked)).toBe("No strike or expiration has fit since 3 Mar 2026: 12 decisions");
  expect(silence("checks", asked)).toBe("Not true since 3 Mar 2026: 12 decisions");
  const never = { true: 0, no: 30, unvalued: 0, last: null, since: 30 };
  expect(silence("legs", never)).toBe("No strike or expiration fit in 30 decisions");
  expect(silence("conditions", never)).toBe("Never true in 30 decisions");
  for (const part of ["leave", "limits", "size", "when", ""]) expect(silence(part, asked)).toBeNull();
  expect(silence("legs", { ...asked, since: 9 })).toBeNull();
});
