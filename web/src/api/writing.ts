/** Writes of strategies that are under way in this tab. What is pushed of one meanwhile is most likely what it brought
 *  about itself, and its answer says it sooner. */
const heard = new Map<number, number>();

export function begin(strategy: number): void {
  heard.set(strategy, heard.get(strategy) ?? 0);
}

/** Whether a push of a strategy can wait for the answer to a write. */
export function waits(strategy: number | undefined): boolean {
  const count = strategy === undefined ? undefined : heard.get(strategy);
  if (strategy === undefined || count === undefined) return false;
  heard.set(strategy, count + 1);
  return true;
}

/** Ends a write; whether the strategy is to be asked for again: the write was behind, or somebody else wrote as well. */
export function end(strategy: number, behind: boolean): boolean {
  const count = heard.get(strategy) ?? 0;
  heard.delete(strategy);
  return behind || count > 1;
}
