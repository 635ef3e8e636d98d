/** Lines of a trade's legs: what was held of the underlying one after the other, as a hedge, is one line after the others. */
export interface Line<T> {
  /** Its legs with their places in the trade. */
  legs: { leg: T; place: number }[];
  label: string;
}

export function lines<T extends { label: string; contract: string }>(legs: T[]): Line<T>[] {
  const every = legs.map((leg, place) => ({ leg, place }));
  const units = every.filter(({ leg }) => /\/unit(\/\d+)?$/.test(leg.contract));
  const alone = units.length > 1 ? every.filter((item) => !units.includes(item)) : every;
  const out = alone.map((item) => ({ legs: [item], label: item.leg.label }));
  if (units.length > 1)
    out.push({ legs: units, label: `${units[0]!.leg.label}, ${units.length} holdings one after the other` });
  return out;
}

/** Labels that tell apart what carries the same: the second of a kind is numbered, and those after it. */
export function apart(labels: string[]): string[] {
  const seen = new Map<string, number>();
  return labels.map((label) => {
    const nth = (seen.get(label) ?? 0) + 1;
    seen.set(label, nth);
    return nth === 1 ? label : `${label} (${nth})`;
  });
}
