"""A trade lived again with other exits: the same ones make the same trade, others what a plain reading of quotes says."""

from __future__ import annotations

import unittest
from decimal import Decimal

from strell_core.engine.plan import Plan, make_plan
from strell_core.engine.run import History, run_blocks
from strell_core.engine.state import ClosedTrade
from strell_core.market.market import market_of
from strell_core.market.timeline import Timeline
from strell_core.results.other_exits import ALL, EARLIER, LATER, NEVER, OtherExit, other_exits
from strell_core.strategy.document import normalise, parse
from tests.demo import short_history
from tests.engine.byhand import CALL, PUT, ByHandCase, entry, snapshots, strategy
from tests.engine.variations import PERCENT_EXITS, STRANGLE, document
from tests.examples import example
from tests.handmade import session_chains, timeline_of

CASH = Decimal(50_000)


def ran(document: dict[str, object], timeline: Timeline) -> tuple[Plan, History]:
    plan = make_plan(parse(document), timeline)
    return plan, run_blocks(plan, timeline, 0, len(timeline.times), CASH)


class SameTest(unittest.TestCase):
    """The sheet's own exits give back every trade of a run, whatever became of it."""

    def test_trades_of_the_demo_and_of_a_sheet_with_percent_exits(self) -> None:
        timeline, count = short_history(), 0
        documents = [
            normalise(example(name))
            for name in ("harbour-strangle", "tide-condor", "quay-calendar", "skerry-butterfly")
        ]
        for document_ in (*documents, document("several", STRANGLE, PERCENT_EXITS, lots=3)):
            if document_["underlyings"] != ["MK30"]:
                continue
            plan, history = ran(document_, timeline)
            for trade in history.closed:
                count += 1
                found = other_exits(plan, market_of(timeline), trade)
                self.assertEqual(found[0].how, ALL)
                again = found[0].trade
                assert again is not None
                self.assertEqual((again.legs, again.pnl, again.rule), (trade.legs, trade.pnl, trade.rule))
                alone = {other.how: other for other in found}
                if trade.rule in alone:
                    self.assertEqual(alone[trade.rule].pnl, trade.pnl, "no other exit acts before the one that acted")
        self.assertGreater(count, 30)


class ByHandTest(ByHandCase):
    RULES = [
        {"id": "target", "rule": "credit_target", "percent": 50},
        {"id": "stop", "rule": "premium_stop", "percent": 100},
    ]

    def others(self, quotes: dict[str, dict[str, str]]) -> tuple[ClosedTrade, dict[str, OtherExit]]:
        whole = {"2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"}, **quotes}
        rows = [*snapshots(whole), {"at": "2026-10-16 17:30", "spot": 3160}]
        timeline = timeline_of(session_chains(rows))
        plan, history = ran(strategy(entry("only", [*self.STRANGLE]), leave=self.RULES), timeline)
        trade = history.closed[0]
        return trade, {other.how: other for other in other_exits(plan, market_of(timeline), trade)}

    def test_every_way_out_at_its_own_quotes(self) -> None:
        trade, found = self.others({
            "2026-10-06 15:45": {CALL: "4.00/4.20", PUT: "3.00/3.20"},
            "2026-10-07 15:45": {CALL: "2.40/2.60", PUT: "2.40/2.60"},
            "2026-10-07 15:50": {CALL: "2.40/2.50", PUT: "2.40/2.50"},
        })  # fmt: skip
        self.assertEqual(trade.rule, "target")
        # two lots, 11.00 points taken, 50 EUR a point, four contracts in and four out at 0.80
        self.assertEqual(trade.pnl, 100 * (Decimal("11.00") - Decimal("5.00")) - Decimal("6.40"))
        self.assertEqual((found[ALL].pnl, found["target"].pnl), (trade.pnl, trade.pnl))
        # never stopped, settled at 3 160: the call for 10.00; no commission at expiration
        held = 100 * (Decimal("11.00") - Decimal("10.00")) - Decimal("3.20")
        self.assertEqual([(found[how].pnl, found[how].left_by) for how in ("stop", NEVER)], [(held, "settlement")] * 2)
        # decided on the 6th at 15:45, dealt at 15:50
        self.assertEqual(found[EARLIER].pnl, 100 * (Decimal("11.00") - Decimal("7.40")) - Decimal("6.40"))
        self.assertNotIn(LATER, found, "in the next session there is nothing left to leave: it settles")

    def test_a_stop_s_day_earlier_pays_the_other_side_as_the_stop_did(self) -> None:
        RULES = {"orders": [{"rule": "fill_model", "share": 0}]}
        whole = {"2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"}, "2026-10-07 15:45": {CALL: "20.00/20.20"}}
        timeline = timeline_of(session_chains(snapshots(whole)))
        plan, history = ran(strategy(entry("only", [*self.STRANGLE]), leave=self.RULES, **RULES), timeline)
        (trade,) = history.closed
        self.assertEqual(trade.rule, "stop")
        found = {other.how: other for other in other_exits(plan, market_of(timeline), trade)}
        # opened at mid 11.20, left at 11.40 on the day before
        self.assertEqual(found[EARLIER].pnl, 100 * (Decimal("11.20") - Decimal("11.40")) - Decimal("6.40"))
        self.assertNotIn(LATER, found, "nothing is recorded after it")
        # where nothing lets it go it is open at the end: mids 20.10 and 5.10
        self.assertEqual((found["target"].trade, found["target"].left_by), (None, ""))
        self.assertEqual(found["target"].pnl, 100 * (Decimal("11.20") - Decimal("25.20")) - Decimal("3.20"))
