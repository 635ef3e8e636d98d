"""Trades over a split (semantics rule 11): followed in whole contracts, closed where they cannot be."""

from __future__ import annotations

import copy
import dataclasses
import datetime as dt
import unittest
from decimal import Decimal
from typing import Any

import numpy as np

from strell_core.engine.plan import make_plan
from strell_core.engine.run import History, run_blocks, run_steps
from strell_core.engine.stored import dump, load
from strell_core.market.daily import DailyHistory
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS
from strell_core.market.splits import Split, after
from strell_core.market.timeline import Timeline
from strell_core.results.equity import equity_curve, trade_path
from strell_core.scenario.generator import MK30
from strell_core.strategy.document import parse
from tests.engine.test_worked_examples import whole
from tests.handmade import instant, session_chains, timeline_of

CASH = Decimal(50_000)
EXPIRES = dt.date(2026, 10, 16)
PUT = {"rule": "leg", "side": "sell", "right": "put", "ratio": 2, "strike": {"pick": "percent_from_spot", "percent": 2},
       "expiry": {"pick": "nearest_days"}}  # fmt: skip
STRATEGY = {
    "legs": [PUT],
    "leave": [{"rule": "credit_target", "percent": 50}, {"rule": "premium_stop", "percent": 300}],
}
BEFORE = [
    {"at": "2026-10-05 15:45", "spot": 3100, "2026-10-16/put/3040": "6.00/6.20"},
    {"at": "2026-10-05 15:50", "spot": 3100, "2026-10-16/put/3040": "6.00/6.20"},
    {"at": "2026-10-06 17:30", "spot": 3110, "2026-10-16/put/3040": "5.00/5.20"},
]  # fmt: skip
# on the 7th two units for one: half the price, half the strike, half the premium
AFTER = [
    {"at": "2026-10-07 10:00", "spot": 1555, "2026-10-16/put/1520": "2.50/2.60", "2026-10-16/put/3040": "-1/-1"},
    {"at": "2026-10-07 15:00", "spot": 1570, "2026-10-16/put/1520": "1.40/1.50", "2026-10-16/put/3040": "-1/-1"},
    {"at": "2026-10-07 15:05", "spot": 1570, "2026-10-16/put/1520": "1.40/1.50", "2026-10-16/put/3040": "-1/-1"},
]  # fmt: skip


def timeline(ratio: float, rows: list[dict[str, Any]] | None = None) -> Timeline:
    shown = [{k: v for k, v in row.items() if v != "-1/-1"} for row in (rows or [*BEFORE, *AFTER])]
    made = timeline_of(session_chains(shown))
    underlying = dataclasses.replace(MK30, splits=((dt.date(2026, 10, 7), ratio),))
    return Timeline(
        underlying, made.calendar, made.dates, made.first, made.times, made.spot, made.settlement,
        DailyHistory(made.dates, made.daily.close, made.daily.atm_iv, splits=(Split(dt.date(2026, 10, 7), ratio),)),
        made.cubes, "split",
    )  # fmt: skip


def both(history: Timeline, strategy: dict[str, Any] = STRATEGY) -> History:
    """Steps and blocks, which must say the same, also cut and restored anywhere."""
    plan = make_plan(parse(whole(copy.deepcopy(strategy))), history)
    n = len(history.times)
    steps = run_steps(plan, history, 0, n, CASH)
    blocks = run_blocks(plan, history, 0, n, CASH)
    for cut in range(1, n):
        first = run_blocks(plan, history, 0, cut, CASH)
        second = run_blocks(plan, history, cut, n, CASH, None, load(dump(first.state), "MK30"))
        assert [*first.closed, *second.closed] == steps.closed
        assert [*first.reasons, *second.reasons] == steps.reasons
        assert dump(second.state) == dump(steps.state)
    assert (blocks.closed, blocks.reasons, blocks.entries) == (steps.closed, steps.reasons, steps.entries)
    assert dump(blocks.state) == dump(steps.state)
    return steps


class FollowedTest(unittest.TestCase):
    def test_contracts_double_strike_and_price_halve_and_money_is_the_same(self) -> None:
        found = both(timeline(2.0))
        (trade,) = found.closed
        # sold 2 at 6.00, bought back 4 at 1.50: 12.00 - 6.00 points at 50 EUR
        self.assertEqual(trade.pnl + trade.costs, Decimal("300.00"))
        legs = [(leg.contract.strike, leg.contracts, leg.opened_parts, leg.closed_parts, leg.how) for leg in trade.legs]
        six, three, out = (round(points * 20 * PARTS) for points in (6.0, 3.0, 1.5))
        self.assertEqual(legs, [(3040, -2, six, six, "split"), (1520, -4, three, out, "order")])
        said = [(r.kind, dict(r.values)) for r in found.reasons if r.kind == "adjusted"]
        self.assertEqual(said, [("adjusted", {"split": "2 for 1"})])
        self.assertEqual(sum(e.amount for e in found.entries), trade.pnl, "the ledger adds up")

    def test_the_path_goes_on_without_a_jump(self) -> None:
        history = timeline(2.0)
        (trade,) = both(history).closed
        path = trade_path(history, trade)
        points = (path.pnl / PARTS / 20).round(6).tolist()
        # mids 6.10, 5.10, then twice 2.55 for one of before: sold at 6.00, two contracts
        self.assertEqual(points[:3], [-0.2, 1.8, 1.8])
        curve = equity_curve(history, both(history), 0, len(history.times), CASH)
        costs = float(trade.costs)
        self.assertAlmostEqual(curve.equity[1], 50_000 + 1.8 * 50 - costs / 3, delta=costs)
        self.assertAlmostEqual(curve.equity[-1], 50_000 + 300 - costs, places=2)

    def test_an_exit_that_waits_over_the_night_closes_the_new_contracts(self) -> None:
        # the stop is reached on the session's last snapshot, so that its order waits until after the split
        reached = {"at": "2026-10-06 17:30", "spot": 3110, "2026-10-16/put/3040": "24.00/24.80"}
        before = [*BEFORE[:2], {**BEFORE[2], "at": "2026-10-06 12:00"}, reached]
        (trade,) = both(timeline(2.0, [*before, *AFTER])).closed
        self.assertEqual(
            (trade.left_at, trade.closed_at), (instant("2026-10-06 17:30"), instant("2026-10-07 10:00")), "it waited"
        )
        self.assertEqual([(leg.contract.strike, leg.contracts, leg.how) for leg in trade.legs][-1], (1520, -4, "order"))
        # 12.00 taken, four bought at the market for 2.60
        self.assertEqual(trade.pnl + trade.costs, Decimal("80.00"))

    def test_settlement_counts_the_new_contracts(self) -> None:
        rows = [*BEFORE, *AFTER[:1], {"at": "2026-10-16 17:30", "spot": 1510, "2026-10-16/put/1520": "10.00/10.10"}]
        keeps = {**STRATEGY, "leave": [{"rule": "premium_stop", "percent": 1000}]}
        (trade,) = both(timeline(2.0, rows), keeps).closed
        # 2 sold at 6.00; 4 settle 10.00 in the money
        self.assertEqual(trade.pnl + trade.costs, Decimal(50) * (12 - 40))
        self.assertEqual(trade.rule, "settlement")


class NotFollowedTest(unittest.TestCase):
    def test_three_for_two_closes_at_the_last_mid(self) -> None:
        found = both(timeline(1.5))
        (trade,) = found.closed
        self.assertEqual((trade.rule, dict(trade.values)), ("split", {"split": "3 for 2"}))
        self.assertEqual(trade.pnl + trade.costs, Decimal("90.00"), "2 × (6.00 - 5.10) × 50")
        self.assertEqual([leg.how for leg in trade.legs], ["split"])
        self.assertEqual(found.state.trades, ())

    def test_so_does_one_whose_new_contracts_nobody_lists(self) -> None:
        rows = [*BEFORE, {"at": "2026-10-07 10:00", "spot": 1555, "2026-10-16/put/1500": "2.50/2.60"}]
        (trade,) = both(timeline(2.0, rows)).closed
        self.assertEqual(trade.rule, "split")


class FactsTest(unittest.TestCase):
    def test_words_and_whole_numbers(self) -> None:
        day = dt.date(2026, 10, 7)
        told = [(Split(day, ratio).words, Split(day, ratio).whole) for ratio in (2.0, 1.5, 0.1, 7.0, 4 / 3)]
        self.assertEqual(
            told, [("2 for 1", 2), ("3 for 2", None), ("1 for 10", None), ("7 for 1", 7), ("4 for 3", None)]
        )
        self.assertEqual(after(ContractKey(EXPIRES, "call", 100, "MK30"), 3).strike, 33.333)

    def test_closes_before_are_in_the_units_of_the_day_they_are_read_on(self) -> None:
        """Rule 2: history is adjusted for splits that hold by then, and for no other."""
        history = timeline(2.0).daily
        plain = history.close.tolist()
        self.assertEqual(history.before(2).close.tolist(), [plain[0] / 2, plain[1] / 2], "read on the day of the split")
        self.assertEqual(history.before(1).close.tolist(), plain[:1], "the evening before nobody knows of it")
        np.testing.assert_array_equal(history.close, plain)
