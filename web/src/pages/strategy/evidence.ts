/** Counts at the sheet's edge: what each sentence says now, or how often it spoke in a run. */
import type { Schemas } from "../../api/client";
import { number } from "../../ui/format";
import { type Evidence, NO_EVIDENCE } from "./types";

export function previewEvidence(preview: Schemas["PreviewOut"]): Evidence {
  const of: Record<string, string> = {};
  for (const verdict of preview.verdicts) of[verdict.id] = verdict.truth;
  for (const leg of preview.legs) {
    const picked = leg.candidates.find((candidate) => candidate.picked);
    of[leg.id] =
      leg.right === "unit" ? "the underlying" : picked ? `${number(picked.strike)} ${leg.right}` : "none";
  }
  return { title: "at this instant", of };
}

export function runEvidence(run: Schemas["RunOut"] | undefined): Evidence {
  const of: Record<string, string> = {};
  if (!run) return NO_EVIDENCE;
  const section = Object.fromEntries(run.sheet.map((sentence) => [sentence.id, sentence.section]));
  for (const [id, counts] of Object.entries(run.evidence)) {
    const asked = counts.true + counts.no + counts.unvalued;
    of[id] =
      section[id] === "leave" || section[id] === "legs"
        ? `${number(counts.true)} ×`
        : `${number(counts.true)} of ${number(asked)}`;
  }
  return { title: `run ${run.number}`, of };
}
