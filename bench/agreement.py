"""Every strategy of the language's test set on the index, over the whole demo history: blocks beside the second implementation, a
variant's walk and, over random cuts, one snapshot after another; and equity beside what the run itself found. Ten minutes."""

from __future__ import annotations

import random
from dataclasses import dataclass
from typing import Any

from bench.timing import table
from strell_core.engine.lives import Beyond
from strell_core.engine.plain import to_plain
from strell_core.engine.plan import Plan, make_plan
from strell_core.engine.run import History, run_blocks, run_steps
from strell_core.engine.stored import dump
from strell_core.engine.variants import Variants
from strell_core.market.market import Market
from strell_core.results.equity import EquityCurve, equity_curve
from strell_core.scenario.generator import MK30, Settings
from strell_core.strategy.document import parse
from tests.demo import chains, market_with_reports
from tests.engine.plain_recording import Recording
from tests.engine.reference import Reference
from tests.engine.test_forty import CASH, documents
from tests.engine.trades import trades_of_engine, trades_of_reference

CUTS, LONGEST = 2, 6
"""Cuts of each, and sessions of the longest."""


@dataclass
class Agreement:
    market: Market
    recording: Recording
    variants: Variants
    dice: random.Random
    shared: int = 0

    def differences(self, document: dict[str, Any]) -> tuple[int, list[str]]:
        """Trades, and whatever does not say the same."""
        timeline, end = self.market.main, self.variants.end
        plan = make_plan(parse(document), timeline)
        history = run_blocks(plan, self.market, 0, end, CASH)
        found = self._curve(history, equity_curve(self.market, history, 0, end, CASH))
        found += self._walk(plan)
        reference = Reference(document, self.recording, CASH)
        reference.run()
        decisions = [(r.at, r.kind, r.rule) for r in history.reasons if r.kind in ("entry", "no entry", "skipped")]
        if trades_of_engine(history) != trades_of_reference(reference) or history.state.cash != reference.cash:
            found.append("the second implementation's trades")
        if decisions != reference.decisions:
            found.append("its decisions")
        for _ in range(CUTS):
            low = self.dice.randrange(len(timeline.dates) - LONGEST)
            found += self._steps(
                plan, int(timeline.first[low]), int(timeline.first[low + self.dice.randint(2, LONGEST)])
            )
        return len(history.closed), found

    def _curve(self, history: History, curve: EquityCurve) -> list[str]:
        timeline = self.market.main
        ends = timeline.times[timeline.first[curve.sessions + 1] - 1]
        equity = dict(zip(ends.tolist(), curve.equity.tolist(), strict=True))
        # where a session is one snapshot, fills come after what is compared there
        late = {entry.at for entry in history.entries if timeline.is_single[timeline.at_or_before(entry.at)]}
        needs = [need for need in history.needs if need.at not in late]
        return [] if all(abs(need.equity - equity[need.at]) < 1e-5 for need in needs) else ["equity"]

    def _walk(self, plan: Plan) -> list[str]:
        end = self.variants.end
        try:
            told = self.variants.run(plan, CASH)
        except Beyond:
            return []
        self.shared += 1
        history = run_blocks(plan, self.market, 0, end, CASH, until_ruin=True)
        curve = equity_curve(self.market, history, 0, end, CASH)
        same = told.pnl.tolist() == [int(trade.pnl * 100) for trade in history.closed]
        return [] if same and told.equity.tobytes() == curve.equity.tobytes() else ["a variant's walk"]

    def _steps(self, plan: Plan, begin: int, end: int) -> list[str]:
        blocks, steps = (how(plan, self.market, begin, end, CASH) for how in (run_blocks, run_steps))
        parts = ("reasons", "entries", "closed", "intents")
        same = all(to_plain(getattr(blocks, part)) == to_plain(getattr(steps, part)) for part in parts)
        return [] if same and dump(blocks.state) == dump(steps.state) else [f"steps from snapshot {begin} to {end}"]


def run() -> None:
    market = market_with_reports(Settings())
    closes = {session.date: session.close for session in market.main.calendar.sessions}
    recording = Recording(list(chains(Settings())), closes, MK30.rate)
    agreement = Agreement(market, recording, Variants(market, 0, len(market.main.times)), random.Random())
    every = {name: raw for name, raw in documents().items() if raw["underlyings"] == ["MK30"]}
    found = {name: agreement.differences(raw) for name, raw in every.items()}
    rows = [
        ["strategies", len(found)], ["their trades", sum(trades for trades, _ in found.values())],
        ["told by a walk as well", agreement.shared], ["cuts gone through one snapshot after another", CUTS * len(found)],
        ["that do not say the same", sum(bool(what) for _, what in found.values())],
    ]  # fmt: skip
    table(
        "The test set over the whole demo history", ["what", "how many"], [[name, f"{count:,}"] for name, count in rows]
    )
    for name, (_, what) in found.items():
        if what:
            print(f"{name}: {', '.join(what)}")
    if any(what for _, what in found.values()):
        raise SystemExit(1)
