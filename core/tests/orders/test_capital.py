"""Capital by the plain rule: the whole loss of what is defined, the worst of the range otherwise."""

from __future__ import annotations

import math
import unittest

from strell_core.orders.capital import RANGE, capital
from strell_core.pricing.payoff import PayoffLeg

BASE, SETTLES = 1_795_100_000, 1_795_100_000 + 8 * 86_400


def leg(contracts: int, sign: int, strike: float, opened: float) -> PayoffLeg:
    return PayoffLeg(contracts, sign, strike, SETTLES, 0.15, 3100.0, opened)


class CapitalTest(unittest.TestCase):
    def test_a_defined_spread_takes_its_width_less_the_credit(self) -> None:
        # common practice: the maximum loss of a spread is its width less the credit
        legs = [leg(-1, 1, 3150, 12.0), leg(1, 1, 3180, 5.0)]
        self.assertAlmostEqual(capital(legs, 3100.0, BASE), 30 - 7, places=9)

    def test_a_condor_takes_the_worse_side_only(self) -> None:
        legs = [leg(-1, 1, 3150, 12.0), leg(1, 1, 3180, 5.0), leg(-1, -1, 3050, 11.0), leg(1, -1, 3030, 6.0)]
        self.assertAlmostEqual(capital(legs, 3100.0, BASE), 30 - 12, places=9)

    def test_what_is_bought_takes_what_it_cost(self) -> None:
        self.assertAlmostEqual(capital([leg(2, 1, 3150, 12.0)], 3100.0, BASE), 24.0, places=9)

    def test_a_short_option_takes_the_loss_at_the_edge_of_the_range(self) -> None:
        edge = 3100.0 * (1 + RANGE)
        self.assertAlmostEqual(capital([leg(-1, 1, 3150, 12.0)], 3100.0, BASE), edge - 3150 - 12, places=6)

    def test_the_order_of_legs_does_not_matter_and_nothing_takes_nothing(self) -> None:
        legs = [leg(-1, 1, 3150, 12.0), leg(1, 1, 3180, 5.0), leg(-2, -1, 3050, 11.0)]
        self.assertTrue(math.isclose(capital(legs, 3100.0, BASE), capital(legs[::-1], 3100.0, BASE)))
        self.assertEqual(capital([], 3100.0, BASE), 0.0)
