/** What the sheet, the evidence beside it and their page share. */
import type { Schemas } from "../../api/client";

export type Strategy = Schemas["StrategyOut"];
export type Preview = Schemas["PreviewOut"] & { took: number };
/** A run as its page reads it; its decisions are asked for where they are shown. */
export type Run = Omit<Schemas["RunOut"], "decisions">;
/** A run with what it decided, without its trades. */
export type Decided = Omit<Schemas["RunOut"], "trades">;
export type RunRow = Schemas["RunRow"];
export type TradeRow = Run["trades"][number];

/** Counts at the sheet's edge, by sentence. */
export interface Evidence {
  /** What the counts speak of. */
  title: string;
  of: Record<string, string>;
  /** What there is to say of a sentence that was in the way for long. */
  remarks?: Record<string, string>;
}

export const NO_EVIDENCE: Evidence = { title: "", of: {} };
