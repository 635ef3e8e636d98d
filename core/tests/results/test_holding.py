"""The same money in the underlying and in the money market: against empyrical-reloaded and plain loops."""

from __future__ import annotations

import dataclasses
import math
import unittest
import unittest.mock

import empyrical
import numpy as np

from strell_core.market.rates import RateCurves
from strell_core.market.timeline import Timeline
from strell_core.results import metrics
from strell_core.results.holding import beta, by_session, correlation, riskless
from tests.demo import short_history
from tests.engine.split_by_hand import twice
from tests.payers import PAYERS, payer

START = 10_000.0


def by_loop(timeline: Timeline, first: int, after: int) -> list[float]:
    """Units and a purse: a dividend is spent on more units in the session it goes ex in."""
    out, units = [], START / (int(timeline.spot[timeline.first[first]]) / 100)
    for session in range(first, after):
        date = timeline.dates[session]
        price = int(timeline.spot[timeline.first[session + 1] - 1]) / 100
        before = timeline.dates[session - 1] if session > first else date
        for day, ratio in timeline.underlying.splits:
            if before < day <= date:
                units *= ratio
        for ex, amount in timeline.underlying.dividends:
            if before < ex <= date:
                units += units * amount / price
        out.append(units * price)
    return out


class HoldingTest(unittest.TestCase):
    def test_a_payer_s_dividends_buy_more_of_it(self) -> None:
        paid = 0
        for name in PAYERS:
            timeline = payer(name).timeline
            sessions = np.arange(5, 400)
            found = by_session(timeline, sessions, START)
            np.testing.assert_allclose(found, by_loop(timeline, 5, 400), rtol=1e-12)
            inside = [ex for ex, _ in timeline.underlying.dividends if timeline.dates[5] < ex <= timeline.dates[399]]
            paid += len(inside)
            price = timeline.spot[timeline.first[sessions + 1] - 1] / int(timeline.spot[timeline.first[5]])
            self.assertEqual(bool((found > START * price + 1e-6).any()), bool(inside))
        self.assertGreater(paid, 4)

    def test_a_split_is_worth_nothing(self) -> None:
        large, split = twice(payer(PAYERS[0]).timeline, 2, 150)
        sessions = np.arange(5, 400)
        found = by_session(split, sessions, START)
        np.testing.assert_allclose(found, by_session(large, sessions, START), rtol=1e-9)
        np.testing.assert_allclose(found, by_loop(split, 5, 400), rtol=1e-12)
        # who begins after it has nothing split
        np.testing.assert_allclose(by_session(split, sessions[200:], START), by_loop(split, 205, 400), rtol=1e-12)

    def test_an_index_is_its_price(self) -> None:
        timeline = short_history()
        sessions = np.arange(10, 60)
        price = timeline.spot[timeline.first[sessions + 1] - 1] / int(timeline.spot[timeline.first[10]])
        np.testing.assert_allclose(by_session(timeline, sessions, START), START * price, rtol=1e-12)
        self.assertEqual(len(by_session(timeline, np.arange(0), START)), 0)


class MoneyMarketTest(unittest.TestCase):
    def test_by_calendar_days_at_what_was_known(self) -> None:
        timeline = short_history()
        sessions = np.arange(10, 40)
        dates = [timeline.dates[session] for session in sessions.tolist()]
        rate = timeline.underlying.rate
        wanted = [0.0] + [math.exp(rate * (b - a).days / 365) - 1 for a, b in zip(dates, dates[1:], strict=False)]
        np.testing.assert_allclose(riskless(timeline, sessions), wanted, rtol=1e-9)
        # from the twentieth on 10 % with yearly compounding over a week, 8 % over a day
        curves = RateCurves.of([(dates[20], 1, 8.0), (dates[20], 7, 10.0)])
        known = dataclasses.replace(timeline.underlying, rates=curves)
        with unittest.mock.patch.object(timeline, "underlying", known):
            found = riskless(timeline, sessions)
        np.testing.assert_allclose(found[:21], wanted[:21], rtol=1e-9, err_msg="what is not known yet does not count")
        for place in range(21, 30):
            days = (dates[place] - dates[place - 1]).days
            a_year = math.log(1.08) + (math.log(1.10) - math.log(1.08)) * (days - 1) / 6
            self.assertAlmostEqual(found[place], math.exp(a_year * days / 365) - 1, places=12)


class AgainstEmpyricalTest(unittest.TestCase):
    """Reference: empyrical-reloaded on random daily returns."""

    def test_beta_correlation_and_sharpe_in_excess(self) -> None:
        dice = np.random.default_rng(5)
        market = dice.normal(0.0003, 0.01, 400)
        own, free = 0.3 * market + dice.normal(0.0002, 0.006, 400), np.abs(dice.normal(0.0001, 0.00003, 400))
        self.assertAlmostEqual(beta(own, market) or 0, empyrical.beta(own, market), places=10)
        self.assertAlmostEqual(correlation(own, market) or 0, float(np.corrcoef(own, market)[0, 1]), places=10)
        self.assertAlmostEqual(metrics.sharpe(own - free) or 0, empyrical.sharpe_ratio(own - free), places=10)
        self.assertLess(correlation(-own, market) or 0, 0)

    def test_what_does_not_move_has_none(self) -> None:
        moves, still, lost = np.array([0.01, -0.02, 0.0]), np.zeros(3), np.array([0.01, np.nan, 0.0])
        self.assertEqual((beta(moves, still), correlation(moves, still)), (None, None))
        self.assertEqual((beta(still, moves), correlation(still, moves)), (0.0, None))
        self.assertEqual((beta(lost, moves), beta(moves, lost), beta(moves[:1], moves[:1])), (None, None, None))
