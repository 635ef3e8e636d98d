"""P/L by cause: adds up at every snapshot, small rests on the demo, and single causes told as such."""

from __future__ import annotations

import dataclasses
import unittest
from collections import Counter
from decimal import Decimal

import numpy as np

from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks
from strell_core.engine.state import ClosedTrade
from strell_core.market.prices import PARTS
from strell_core.market.timeline import Timeline
from strell_core.results.causes import CAUSES, causes
from strell_core.results.equity import trade_path
from strell_core.strategy.document import parse
from tests.demo import short_history
from tests.engine.unit_loops import covered_call
from tests.engine.variations import variations
from tests.payers import PAYERS, payer

CASH = Decimal(50_000)


class AddsUpTest(unittest.TestCase):
    def trades(self, name: str):
        timeline = short_history()
        plan = make_plan(parse(variations()[name]), timeline)
        return timeline, run_blocks(plan, timeline, 0, len(timeline.times), CASH).closed

    def test_causes_dealing_and_costs_are_the_net_result(self) -> None:
        rests, all_of_them = 0.0, 0.0
        for name in ("strangle", "calendar whose near leg settles", "held to settlement"):
            timeline, closed = self.trades(name)
            self.assertGreater(len(closed), 2, name)
            for trade in closed:
                with self.subTest(f"{name} {trade.number}"):
                    found = causes(timeline, trade)
                    total = found.total
                    self.assertAlmostEqual(sum(total.values()), float(trade.pnl), places=6)
                    self.assertAlmostEqual(total["costs"], -float(trade.costs), delta=0.02)
                    self.assertLess(total["dealing"], 0.01, "nobody deals better than mid here")
                    self.assertEqual(found.course.shape[0], len(CAUSES))
                    np.testing.assert_allclose(found.course[:, -1], found.legs.sum(axis=0), atol=1e-6)
                    rests += abs(total["rest"])
                    all_of_them += sum(abs(total[cause]) for cause in CAUSES)
        self.assertLess(rests, 0.1 * all_of_them)

    def test_what_settled_after_the_last_recorded_snapshot_was_worth_nothing_at_the_last_price(self) -> None:
        timeline, closed = self.trades("held to settlement")
        trade = next(t for t in closed if any(leg.closed_parts == 0 for leg in t.legs))
        later = int(timeline.times[-1]) + 60
        legs = tuple(dataclasses.replace(leg, closed_at=later) for leg in trade.legs if leg.closed_parts == 0)
        contracts = sum(leg.contracts * leg.opened_parts for leg in legs)
        found = causes(timeline, dataclasses.replace(trade, legs=legs, closed_at=later))
        worth = float(timeline.underlying.quantum) * timeline.underlying.multiplier / PARTS
        total = sum(found.total[cause] for cause in (*CAUSES, "dealing"))
        self.assertAlmostEqual(total, -contracts * worth, delta=1.0)

    def test_at_every_snapshot_they_are_the_path_from_its_first_mid(self) -> None:
        timeline, closed = self.trades("strangle")
        for trade in closed:
            path, found = trade_path(timeline, trade), causes(timeline, trade)
            worth = float(timeline.underlying.quantum) * timeline.underlying.multiplier / PARTS
            summed = found.course.sum(axis=0)
            self.assertEqual(summed[0], 0.0)
            # the path begins at what was paid, the causes at mid, and both go on alike
            np.testing.assert_allclose(summed[:-1] - summed[0], (path.pnl[:-1] - path.pnl[0]) * worth, atol=1.0)

    def test_short_premium_earns_time_and_pays_for_moves(self) -> None:
        timeline, closed = self.trades("strangle")
        totals = [causes(timeline, trade).total for trade in closed]
        self.assertGreater(sum(total["time"] for total in totals), 0)
        self.assertTrue(all(total["time"] > 0 for total in totals))
        stopped = [total for trade, total in zip(closed, totals, strict=True) if trade.pnl < 0]
        self.assertTrue(stopped)
        for total in stopped:
            self.assertLess(total["price"] + total["volatility"], 0)

    def test_volatilities_are_those_recorded_with_the_chain(self) -> None:
        timeline, closed = self.trades("strangle")
        seen = 0
        for trade in closed:
            found = causes(timeline, trade)
            for number, leg in enumerate(trade.legs):
                for place in (0, found.vols.shape[1] - 1):
                    quote = timeline.view(found.begin + place).quote(leg.contract)
                    sign = 1 if leg.contract.right == "call" else -1
                    out_of_the_money = sign * (leg.contract.strike - timeline.spot[found.begin + place] / 100) > 5
                    if quote.iv and quote.valid and quote.bid > 0 and out_of_the_money:
                        # of others the chain's is that of their out-of-the-money twin
                        self.assertAlmostEqual(float(found.vols[number, place]), quote.iv / 10_000, delta=0.0001)
                        seen += 1
        self.assertGreater(seen, 10)


class CoveredCallTest(unittest.TestCase):
    """American options of a stock that pays dividends, and its units: assigned, delivered, closed."""

    def test_units_move_by_price_alone_and_everything_adds_up(self) -> None:
        ways: Counter[str] = Counter()
        for name in PAYERS:
            timeline = payer(name).timeline
            plan, end = make_plan(parse(covered_call(name.symbol)), timeline), len(timeline.times)
            rests = whole = 0.0
            for trade in run_blocks(plan, timeline, 0, end, CASH).closed:
                found = causes(timeline, trade)
                self.assertAlmostEqual(sum(found.total.values()), float(trade.pnl), places=6)
                for number, leg in enumerate(trade.legs):
                    if leg.contract.is_unit:
                        self.assertEqual(found.legs[number, 1:].tolist(), [0.0] * (len(CAUSES) - 1))
                        self.assertTrue(np.isnan(found.vols[number]).all())
                ways.update(leg.how for leg in trade.legs)
                rests += abs(found.total["rest"])
                whole += sum(abs(found.total[cause]) for cause in CAUSES)
                if any(leg.how == "assignment" for leg in trade.legs):
                    self.assertAlmostEqual(found.dealing.sum(), self.spreads(timeline, trade), places=6)
            self.assertLess(rests, 0.01 * whole)
        self.assertGreaterEqual(ways["assignment"], 10)
        self.assertLessEqual({"settlement", "order", "delivery"}, set(ways))

    def spreads(self, timeline: Timeline, trade: ClosedTrade) -> float:
        """What a trade paid off mid when it was opened: units that a call takes away go at its strike, for what it was
        worth, and cost no spread."""
        at = int(np.searchsorted(timeline.times, trade.opened_at))
        paid = 0.0
        for leg in trade.legs:
            bid, ask = timeline.quote_at(leg.contract, at)
            paid += leg.contracts * ((bid + ask) / 2 - leg.opened_parts)
        return (
            paid * float(timeline.underlying.quantum) / PARTS * timeline.multiplier(timeline.date_at(trade.opened_at))
        )
