"""The volatility index: a flat smile gives back its own volatility; the published way of mixing terms."""

from __future__ import annotations

import math
import unittest

import numpy as np

from strell_core.pricing.black import YEAR_SECONDS, black_price
from strell_core.pricing.variance_index import THIRTY_DAYS, term_variance, thirty_days, variance_index
from strell_core.scenario.generator import DIVIDEND_YIELD, Scenario, Settings
from strell_core.scenario.smile import at_the_money_variance as theta_of
from strell_core.scenario.smile import skew, total_variance

RATE, QUANTUM = 0.021, 0.01


class TermVarianceTest(unittest.TestCase):
    def strip(self, vol: float, forward: float, years: float, step: float = 5.0) -> float:
        strikes = np.arange(1200.0, 6000.0, step)
        discount = math.exp(-RATE * years)
        sides = []
        for sign in (1, -1):
            fair = np.array([black_price(forward, k, years, vol, discount, sign) for k in strikes]) / QUANTUM
            sides += [np.floor(fair).astype(np.int32), np.ceil(fair).astype(np.int32)]
        return math.sqrt(term_variance(strikes, *sides, QUANTUM, forward, years, RATE))

    def test_a_flat_smile_gives_its_own_volatility(self) -> None:
        """Variance-swap replication (Demeterfi, Derman, Kamal, Zou, "More than you ever wanted to know about
        volatility swaps", 1999)."""
        for vol in (0.10, 0.18, 0.35):
            for years in (20 / 365, 40 / 365):
                self.assertAlmostEqual(self.strip(vol, 3104.0, years), vol, delta=0.0006)

    def test_two_zero_bids_end_the_strip(self) -> None:
        years, strikes = 30 / 365, np.arange(2600.0, 3605.0, 5.0)
        discount = math.exp(-RATE * years)
        fair = [np.array([black_price(3100.0, k, years, 0.2, discount, s) for k in strikes]) / QUANTUM for s in (1, -1)]
        quotes = [np.rint(side).astype(np.int32) for side in (fair[0], fair[0], fair[1], fair[1])]
        whole = term_variance(strikes, *quotes, QUANTUM, 3100.0, years, RATE)
        quotes[2] = np.where((strikes == 2900) | (strikes == 2905), 0, quotes[2])
        cut = term_variance(strikes, *quotes, QUANTUM, 3100.0, years, RATE)
        self.assertLess(cut, whole)
        one = quotes[2].copy()
        one[strikes == 2905] = quotes[3][strikes == 2905]
        gap = term_variance(strikes, quotes[0], quotes[1], one, quotes[3], QUANTUM, 3100.0, years, RATE)
        self.assertAlmostEqual(gap, whole, delta=0.02 * whole, msg="a single one does not")

    def test_without_both_sides_there_is_none(self) -> None:
        none = np.zeros(3, np.int32)
        some = np.full(3, 5, np.int32)
        args = (QUANTUM, 101.0, 0.1, RATE)
        self.assertTrue(math.isnan(term_variance(np.array([100.0, 105.0, 110.0]), some, some, none, some, *args)))


class MixTest(unittest.TestCase):
    def test_the_white_papers_figures(self) -> None:
        """From memory: 35 924 and 46 394 minutes, variances 0.01846292 and 0.01882101, index 13.69."""
        found = thirty_days((35_924 * 60.0, 0.01846292), (46_394 * 60.0, 0.01882101))
        self.assertAlmostEqual(found, 13.69, delta=0.005)

    def test_a_term_of_thirty_days_stands_alone(self) -> None:
        self.assertAlmostEqual(thirty_days((float(THIRTY_DAYS), 0.04), (2.0 * THIRTY_DAYS, 0.09)), 20.0, places=9)


class GeneratedTest(unittest.TestCase):
    def test_the_index_is_what_the_generators_smile_says(self) -> None:
        """The integral of the generator's own prices over the strikes that are bid for, term by term; strikes
        50 apart far out add about 0.2."""
        scenario = Scenario(Settings(sessions=60, intraday=1))
        chain = scenario.chain(30)
        settlements = [scenario.calendar.session(d).close for d in chain.expirations]
        found = float(variance_index(chain, settlements, 0.05, RATE)[0])
        now = int(chain.times[0])
        variance = float(scenario.path.variance[int(np.searchsorted(scenario.path.times, now))])
        left = [settles - now for settles in settlements]
        place = max(i for i, seconds in enumerate(left) if seconds <= THIRTY_DAYS)
        terms = []
        for i in (place, place + 1):
            years = left[i] / YEAR_SECONDS
            forward = 0.01 * float(chain.spot[0]) * math.exp((RATE - DIVIDEND_YIELD) * years)
            bid = [
                float(c.strike) for j, c in enumerate(chain.contracts)
                if c.expiration == chain.expirations[i] and chain.bid[j, 0] > 0
                and (c.strike > forward) == (c.right == "call")
            ]  # fmt: skip
            strikes = np.linspace(min(bid), max(bid), 4001)
            theta, rho = theta_of(years, variance), skew(variance)
            prices = [
                black_price(
                    forward, k, years, math.sqrt(total_variance(math.log(k / forward), theta, rho) / years), 1.0,
                    1 if k > forward else -1,
                )
                for k in strikes.tolist()
            ]  # fmt: skip
            terms.append((float(left[i]), 2.0 / years * float(np.trapezoid(np.array(prices) / strikes**2, strikes))))
        self.assertAlmostEqual(found, thirty_days(terms[0], terms[1]), delta=0.3)
