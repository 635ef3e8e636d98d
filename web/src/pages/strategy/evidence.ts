/** Counts at the sheet's edge: what each sentence says now, or how often it spoke in a run. */
import type { Schemas } from "../../api/client";
import { date, number, plural } from "../../ui/format";
import { type Evidence, NO_EVIDENCE, type Run } from "./types";

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

/** Decisions after which it is worth saying that a sentence has not been true. */
const LONG = 10;

export function runEvidence(run: Run | undefined): Evidence {
  const of: Record<string, string> = {};
  const remarks: Record<string, string> = {};
  if (!run) return NO_EVIDENCE;
  const stands = Object.fromEntries(run.sheet.map(({ id, section, part }) => [id, { section, part }]));
  for (const [id, counts] of Object.entries(run.evidence)) {
    const { section, part } = stands[id] ?? { section: "", part: "" };
    const asked = counts.true + counts.no + counts.unvalued;
    of[id] =
      section === "leave" || section === "legs"
        ? `${number(counts.true)} ×`
        : `${number(counts.true)} of ${number(asked)}`;
    const said = silence(part, counts);
    if (said) remarks[id] = `${said}, run ${run.number}.`;
  }
  return { title: `run ${run.number}`, of, remarks };
}

/** What is said of a sentence that stood in the way at every decision at a run's end; nothing of a limit, which is to. */
export function silence(part: string, counts: Schemas["EvidenceOut"]): string | null {
  if (counts.since < LONG || !["conditions", "legs", "checks"].includes(part)) return null;
  const times = plural(counts.since, "decision");
  if (part === "legs")
    return counts.last
      ? `No strike or expiration has fit since ${date(counts.last)}: ${times}`
      : `No strike or expiration fit in ${times}`;
  return counts.last ? `Not true since ${date(counts.last)}: ${times}` : `Never true in ${times}`;
}
