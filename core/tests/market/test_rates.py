"""Interest by term: as known on the day, between terms, and what an underlying makes of it."""

import dataclasses
import datetime as dt
import math
import unittest

import numpy as np
from scipy.interpolate import interp1d

from strell_core.formats import cubes
from strell_core.formats.intake.sessions import revalued
from strell_core.market.calendars import marrowick
from strell_core.market.instruments import TermsPeriod
from strell_core.market.rates import RateCurves
from strell_core.scenario.generator import MK30, Scenario, Settings

DAY = dt.date(2026, 3, 2)
QUOTED = [(DAY, 365, 2.4), (DAY, 90, 2.1), (DAY, 30, 2.0), (DAY + dt.timedelta(7), 30, 3.0)]


class RateCurvesTest(unittest.TestCase):
    def test_between_terms_it_is_linear_and_beyond_them_flat(self) -> None:
        """Reference: SciPy's interpolation of the continuously compounded rates."""
        curves = RateCurves.of(QUOTED)
        wanted = interp1d([30, 90, 365], np.log1p([0.02, 0.021, 0.024]))
        for days in (30, 47, 90, 200, 365):
            self.assertAlmostEqual(curves.at(DAY, days) or 0.0, float(wanted(days)), places=15)
        self.assertEqual(curves.at(DAY, 1), math.log1p(0.02))
        self.assertEqual(curves.at(DAY, 4000), math.log1p(0.024))

    def test_only_what_was_known_counts(self) -> None:
        curves = RateCurves.of(QUOTED)
        self.assertIsNone(curves.at(DAY - dt.timedelta(1), 30))
        self.assertEqual(curves.at(DAY + dt.timedelta(6), 30), math.log1p(0.02))
        self.assertEqual(curves.at(DAY + dt.timedelta(7), 30), math.log1p(0.03))

    def test_an_underlying_takes_it_before_its_flat_rate(self) -> None:
        terms = dataclasses.replace(MK30, rates=RateCurves.of(QUOTED))
        self.assertEqual(terms.interest(DAY, DAY + dt.timedelta(30)), math.log1p(0.02))
        self.assertEqual(terms.interest(DAY - dt.timedelta(1), DAY), MK30.rate, "before the first curve")

    def test_a_curve_is_of_todays_currency_only(self) -> None:
        periods = (
            TermsPeriod(dt.date(1900, 1, 1), 50, False, "close", 0.07, "OLD", "MARROWICK"),
            TermsPeriod(DAY + dt.timedelta(3), 50, False, "close", 0.02, "EUR", "MARROWICK"),
        )
        terms = dataclasses.replace(MK30, rates=RateCurves.of(QUOTED), periods=periods)
        self.assertEqual(terms.interest(DAY, DAY + dt.timedelta(30)), 0.07)
        self.assertEqual(terms.interest(DAY + dt.timedelta(3), DAY + dt.timedelta(33)), math.log1p(0.02))


class RevaluedTest(unittest.TestCase):
    """Volatilities computed anew from stored quotes by what is known now."""

    scenario = Scenario(Settings(sessions=6, intraday=6))
    chain = scenario.chain(5)
    calendar = marrowick()

    def test_with_the_same_facts_nothing_changes(self) -> None:
        again = revalued(self.chain, MK30, self.calendar, close=self.chain.settlement / 100)
        np.testing.assert_array_equal(again.iv, self.chain.iv)
        np.testing.assert_array_equal(again.forward, self.chain.forward)
        self.assertEqual(again.settlement, self.chain.settlement)

    def test_a_curve_that_is_flat_at_the_rate_changes_nothing_another_does(self) -> None:
        flat = RateCurves.of([(dt.date(2020, 1, 1), 30, 100 * math.expm1(MK30.rate))])
        same = revalued(self.chain, dataclasses.replace(MK30, rates=flat), self.calendar)
        np.testing.assert_allclose(same.forward, self.chain.forward, rtol=1e-12)
        high = RateCurves.of([(dt.date(2020, 1, 1), 30, 2.0), (dt.date(2020, 1, 1), 60, 12.0)])
        other = revalued(self.chain, dataclasses.replace(MK30, rates=high), self.calendar)
        days = [(d - self.chain.date).days for d in self.chain.expirations]
        near, far = int(np.argmin(days)), int(np.argmax(days))
        self.assertLess(abs(other.forward[near, 0] - self.chain.forward[near, 0]), 0.02)
        self.assertGreater(np.abs(other.iv.astype(int) - self.chain.iv.astype(int)).max(), 20)
        # European forwards are parity's: a higher rate moves them only by what discounting makes of C - P
        self.assertLess(abs(other.forward[far, 0] - self.chain.forward[far, 0]), 1.0)

    def test_quotes_and_what_was_counted_stay(self) -> None:
        other = revalued(self.chain, dataclasses.replace(MK30, rate=0.2), self.calendar)
        for name in ("bid", "ask", "spot", "open_interest", "volume"):
            np.testing.assert_array_equal(getattr(other, name), getattr(self.chain, name))
        self.assertEqual(other.settlement, int(self.chain.spot[-1]), "no official close: the last price")

    def test_deltas_of_the_cache_discount_by_the_curve(self) -> None:
        high = dataclasses.replace(MK30, rates=RateCurves.of([(dt.date(2020, 1, 1), 30, 40.0)]))
        plain, dear = (cubes.in_memory([self.chain], terms, self.calendar, "r") for terms in (MK30, high))
        date = max(plain.cubes)
        years = (plain.cubes[date].settlement_at - int(self.chain.times[0])) / 31_536_000
        n = len(plain.cubes[date].strikes) // 2
        ratio = dear.cubes[date].delta[n, 0] / plain.cubes[date].delta[n, 0]
        self.assertAlmostEqual(ratio, math.exp(-(math.log1p(0.4) - MK30.rate) * years), places=3)
        self.assertAlmostEqual(dear.view(0).interest(date), math.log1p(0.4))
