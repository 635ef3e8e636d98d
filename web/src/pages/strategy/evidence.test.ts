import { expect, test } from "vitest";
import type { Schemas } from "../../api/client";
import { previewEvidence, runEvidence } from "./evidence";
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
      { id: "stop", section: "leave" },
      { id: "if-iv", section: "enter" },
    ],
    evidence: {
      stop: { true: 12, no: 900, unvalued: 3 },
      "if-iv": { true: 40, no: 58, unvalued: 2 },
    },
  } as unknown as Schemas["RunOut"]);
  expect(shown).toEqual({ title: "run 4", of: { stop: "12 ×", "if-iv": "40 of 100" } });
  expect(runEvidence(undefined)).toBe(NO_EVIDENCE);
});
