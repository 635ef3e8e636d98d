import { defaultFilter } from "cmdk";

/** How well something fits what is searched for: the very words before words in any order, these before letters that happen
 * to come in that order; nothing is 0. */
export function fits(value: string, search: string): number {
  const text = value.toLowerCase().trim();
  const asked = search.toLowerCase().trim();
  const at = text.indexOf(asked);
  if (at >= 0) return 1 - Math.min(at, 400) / 1000;
  if (asked.split(/\s+/).every((word) => text.includes(word))) return 0.5;
  return 0.3 * defaultFilter(value, search);
}
