export type QueryKey = readonly unknown[];

/** The key of every query, said once. A key with fewer parts stands for all that begin with it. */
const key =
  <Name extends string>(name: Name) =>
  (...parts: unknown[]) =>
    [name, ...parts.filter((part) => part !== undefined)] as const;

export const keys = {
  accounts: key("accounts"),
  activeRuns: key("active-runs"),
  away: key("away"),
  calendars: key("calendars"),
  chain: key("chain"),
  checklist: key("checklist"),
  clock: key("clock"),
  compare: key("compare"),
  compared: key("compared"),
  course: key("course"),
  coverage: key("coverage"),
  dataWords: key("data-words"),
  declarations: key("declarations"),
  deployments: key("deployments"),
  desk: key("desk"),
  dials: key("dials"),
  facts: key("facts"),
  faults: key("faults"),
  figures: key("figures"),
  foundContracts: key("found-contracts"),
  foundReplays: key("found-replays"),
  foundTrades: key("found-trades"),
  holdings: key("holdings"),
  intakePreview: key("intake-preview"),
  intakes: key("intakes"),
  journal: key("journal"),
  latestRuns: key("latest-runs"),
  live: key("live"),
  luck: key("luck"),
  mappings: key("mappings"),
  me: key("me"),
  otherExits: key("other-exits"),
  others: key("others"),
  outlook: key("outlook"),
  path: key("path"),
  position: key("position"),
  preview: key("preview"),
  replays: key("replays"),
  run: key("run"),
  runs: key("runs"),
  scene: key("scene"),
  sliceMeasures: key("slice-measures"),
  slices: key("slices"),
  starters: key("starters"),
  strategies: key("strategies"),
  strategy: key("strategy"),
  strip: key("strip"),
  surface: key("surface"),
  sweep: key("sweep"),
  sweeps: key("sweeps"),
  ticket: key("ticket"),
  tokens: key("tokens"),
  trade: key("trade"),
  underlyings: key("underlyings"),
  walk: key("walk"),
  whatIf: key("what-if"),
};

/** What a push says beside its topic. */
export interface Pushed {
  topic: string;
  id?: number;
  strategy?: number;
  account?: number;
  symbol?: string;
}

/** What is asked for again when a push of a topic comes; ``everything`` is all there is. */
export const renewedBy: Record<string, (push: Pushed) => QueryKey[]> = {
  run: (push) => [
    keys.runs(push.strategy),
    keys.run(push.id),
    keys.latestRuns(),
    keys.luck(),
    keys.compared(),
    keys.activeRuns(),
    keys.strategies(),
    keys.strategy(push.strategy),
  ],
  sweep: (push) => [keys.sweeps(push.strategy), keys.sweep(push.id), keys.walk(push.id)],
  strategy: (push) => [keys.strategies(), keys.strategy(push.id)],
  everything: () => [[]],
  order: (push) => [keys.desk(push.account), keys.ticket(push.account), keys.journal()],
  position: (push) => [keys.desk(push.account), keys.journal(), keys.position(push.id)],
  account: (push) => [keys.desk(push.id), keys.journal(), keys.accounts()],
  deployment: (push) => [
    keys.desk(push.account),
    keys.deployments(),
    keys.outlook(),
    keys.compare(),
    keys.strategies(),
  ],
  journal: () => [keys.journal()],
  clock: (push) => [keys.clock(push.symbol), keys.accounts(), keys.desk()],
  recorded: (push) => [keys.path(push.symbol), keys.outlook()],
  history: () => [keys.underlyings(), keys.holdings(), keys.coverage(), keys.intakes()],
  intake: () => [keys.intakes(), keys.holdings(), keys.coverage()],
};

/** What runs under way may have changed before a page's socket was there. */
export const UNDER_WAY: QueryKey[] = [keys.runs(), keys.run(), keys.activeRuns()];

/** What a write of one kind may have changed. */
export const writes = {
  run: [...UNDER_WAY, keys.strategies(), keys.strategy()],
  sweep: [keys.sweeps(), keys.sweep()],
  /** A run that is gone is not asked for again. */
  deletedRun: [keys.runs(), keys.activeRuns(), keys.strategies(), keys.strategy()],
  desk: [
    keys.desk(),
    keys.accounts(),
    keys.deployments(),
    keys.position(),
    keys.clock(),
    keys.journal(),
    keys.strategy(),
  ],
  data: [
    keys.intakes(),
    keys.holdings(),
    keys.coverage(),
    keys.mappings(),
    keys.others(),
    keys.facts(),
    keys.calendars(),
    keys.dataWords(),
  ],
};
