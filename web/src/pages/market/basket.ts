/** The basket as text in the page's address, so that a reload and a sent link show the same. */
import type { Schemas } from "../../api/client";

export type Leg = Schemas["WhatIfLegIn"];

const UNDERLYING = "underlying";

export function write(legs: Leg[]): string {
  return legs
    .map((leg) => {
      const at = leg.opened === null || leg.opened === undefined ? "" : `@${leg.opened}`;
      return `${leg.contracts}*${leg.contract ?? UNDERLYING}${at}`;
    })
    .join(",");
}

/** Parts that are not a leg are left out. */
export function read(text: string | null): Leg[] {
  return (text ?? "").split(",").flatMap((part) => {
    const found = /^(-?\d+(?:\.\d+)?)\*([\w/.-]+)(?:@(\d+(?:\.\d+)?))?$/.exec(part);
    if (!found) return [];
    return [
      {
        contracts: Number(found[1]),
        contract: found[2] === UNDERLYING ? null : found[2]!,
        opened: found[3] === undefined ? null : Number(found[3]),
      },
    ];
  });
}

/** The basket with some contracts more; opposite ones meet, like ones are averaged. */
export function add(legs: Leg[], more: Leg): Leg[] {
  const there = legs.find((leg) => leg.contract === more.contract);
  if (!there) return [...legs, more];
  const contracts = there.contracts + more.contracts;
  if (contracts === 0) return legs.filter((leg) => leg !== there);
  const same = there.contracts * more.contracts > 0;
  const known = typeof there.opened === "number" && typeof more.opened === "number";
  const average =
    same && known
      ? (there.opened! * there.contracts + more.opened! * more.contracts) / contracts
      : Math.abs(more.contracts) > Math.abs(there.contracts)
        ? more.opened
        : there.opened;
  const opened = typeof average === "number" ? Number(average.toFixed(4)) : null;
  return legs.map((leg) => (leg === there ? { ...leg, contracts, opened } : leg));
}
