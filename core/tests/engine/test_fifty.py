"""Fifty generated strategies over the demo's history: no decision to leave is lost or late, and a walk tells the same."""

from __future__ import annotations

import unittest
from decimal import Decimal
from typing import Any

import numpy as np

from strell_core.engine.lives import Beyond
from strell_core.engine.plan import Plan, make_plan
from strell_core.engine.run import History, run_blocks
from strell_core.engine.variants import Variants
from strell_core.formats.strategies import from_text
from strell_core.market.market import market_of
from strell_core.market.timeline import Timeline
from strell_core.market.view import valid_quotes
from strell_core.results.delayed import leavings
from strell_core.results.report import decisions
from strell_core.strategy.document import parse
from tests.demo import demo_history
from tests.drawn import at_least, drawn
from tests.engine.generated import fifty
from tests.examples import EXAMPLES

CASH = Decimal(200_000)
SHARE = 0.4
"""Of the strategies, as much as a whole run of the tests tries."""


def demo_strategies() -> dict[str, Any]:
    """Those of the demo that trade its index."""
    found = [from_text(path.read_text()) for path in sorted(EXAMPLES.glob("*.yaml"))]
    return {document["name"]: document for document in found if document["underlyings"] == ["MK30"]}


class FiftyTest(unittest.TestCase):
    tags = frozenset({"long"})

    def test_no_trade_outlives_a_decision_to_leave(self) -> None:
        timeline, decided, waited, walked = demo_history(), 0, 0, 0
        variants = Variants(market_of(timeline), 0, len(timeline.times))
        for name, document in drawn({**demo_strategies(), **fifty()}.items(), SHARE):
            with self.subTest(name):
                plan = make_plan(parse(document), timeline)
                history = run_blocks(plan, timeline, 0, len(timeline.times), CASH)
                walked += self.walked(variants, plan, history)
                legs = {trade.number: trade.legs for trade in history.closed}
                for item in leavings(history, timeline, len(timeline.dates) - 1):
                    decided += 1
                    self.assertFalse(item.late, f"{item} was not carried out in time")
                    if item.trade in legs and item.done_at is not None:
                        waited += self.earliest(timeline, item.decided_at, item.done_at, legs[item.trade])
        self.assertGreater(decided, at_least(4000, SHARE))
        self.assertGreater(walked, at_least(40, SHARE), "most of them are told by a walk as well")
        self.assertGreaterEqual(waited, at_least(1, SHARE), "now and then one has to wait for quotes")

    def walked(self, variants: Variants, plan: Plan, history: History) -> bool:
        """Whether a walk over what it shares with the others tells of a strategy; then it tells the same."""
        try:
            told = variants.run(plan, CASH, tells=True)
        except Beyond:
            return False
        self.assertEqual([int(trade.pnl * 100) for trade in history.closed], told.pnl.tolist())
        self.assertEqual(decisions(history.reasons), decisions(told.said))
        self.assertEqual(len(history.state.trades), told.open)
        return True

    def earliest(self, timeline: Timeline, decided_at: int, done_at: int, legs: Any) -> bool:
        """Whether it had to wait: at every snapshot between, a leg that was still there had no valid quote."""
        begin, end = timeline.at_or_before(decided_at) + 1, int(np.searchsorted(timeline.times, done_at))
        if timeline.is_single[begin - 1]:
            begin -= 1
        usable = np.ones(max(0, end - begin), np.bool_)
        for leg in legs:
            if leg.closed_at >= done_at:
                bid, ask = timeline.quotes(leg.contract, begin, max(begin, end))
                usable &= valid_quotes(bid, ask)
        self.assertFalse(usable.any(), "it could have been dealt earlier")
        return len(usable) > 0
