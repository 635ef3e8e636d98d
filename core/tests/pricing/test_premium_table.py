"""Premiums shared by an expiration's strikes against each strike valued by itself."""

from __future__ import annotations

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from strell_core.market.view import NO_DELTA
from strell_core.pricing.american import BULK, CLOSE, american_volatility, early_exercise, worth_of
from strell_core.pricing.implied import BELOW_INTRINSIC, NO_TIME_VALUE, OK
from strell_core.pricing.premium_table import (
    OUT_OF_THE_MONEY_VOLS,
    build,
    delta_grid,
    log_nodes,
    premium,
    scales,
    volatility,
)

NONE = np.empty(0)
TWICE = np.array([0.1, 0.25]), np.array([0.8, 0.8])
SPOT = 100.0


class TableTest(unittest.TestCase):
    """``years, rate, carry, dividends``: a put's and a call's premium is worth something in all of them."""

    CASES = ((0.02, 0.04, 0.01, (NONE, NONE)), (0.3, 0.04, 0.02, (NONE, NONE)), (1.5, 0.03, 0.0, (NONE, NONE)),
             (0.4, 0.04, 0.04, TWICE))  # fmt: skip

    def test_out_of_the_money_it_is_as_exact_as_a_strike_by_itself(self) -> None:
        """Reference: the same scheme with seven times the steps, which the QuantLib tests hold to account."""
        rng = np.random.default_rng(3)
        for years, rate, carry, (when, paid) in self.CASES:
            rest = SPOT - worth_of(rate, when, paid)
            nodes, scale = log_nodes(0.15, 0.6, OUT_OF_THE_MONEY_VOLS), scales(70.0, 140.0, len(paid))
            for sign in (1, -1):
                table = build(years, rate, carry, when, paid, nodes, scale, sign)
                ours, plain = [], []
                for _ in range(60):
                    strike = float(rng.uniform(99, 138)) if sign > 0 else float(rng.uniform(72, 101))
                    vol = math.exp(rng.uniform(nodes[0], nodes[-1]))
                    fine = early_exercise(rest, years, rate, carry, when, paid, strike, vol, sign, 96, 240)[0]
                    own = early_exercise(rest, years, rate, carry, when, paid, strike, vol, sign, *BULK)[0]
                    ours.append(abs(premium(table, nodes, scale, rest, years, strike, vol, sign)[0] - fine))
                    plain.append(abs(own - fine))
                self.assertLess(max(ours), max(plain) + 0.003, (years, sign))
                self.assertLess(max(ours), 0.02)

    def test_homogeneity(self) -> None:
        """Merton (1973), theorem 9: price, strike and dividends doubled double the premium."""
        for years, rate, carry, (when, paid) in self.CASES:
            one = early_exercise(90.0, years, rate, carry, when, paid, 95.0, 0.3, -1, *BULK)[0]
            two = early_exercise(180.0, years, rate, carry, when, 2 * paid, 190.0, 0.3, -1, *BULK)[0]
            self.assertAlmostEqual(two, 2 * one, places=9)

    def test_beyond_its_ends(self) -> None:
        nodes, scale = log_nodes(0.2, 0.3, 3), scales(100.0, 100.0, 0)
        table = build(0.1, 0.05, 0.05, NONE, NONE, nodes, scale, -1)
        self.assertEqual(premium(table, nodes, scale, 100.0, 0.1, 50.0, 0.25, -1), (0.0, 0.0), "far out of the money")
        self.assertTrue(math.isnan(premium(table, nodes, scale, 100.0, 0.1, 200.0, 0.25, -1)[0]), "far in the money")
        self.assertTrue(math.isnan(premium(table, nodes, scale, 100.0, 0.1, 100.0, 0.5, -1)[0]), "another volatility")

    @settings(max_examples=60, deadline=None)
    @given(
        st.floats(0.02, 2.0), st.floats(0.0, 0.08), st.floats(-0.03, 0.06), st.floats(0.1, 0.9), st.floats(0.75, 1.3),
        st.booleans(),
    )  # fmt: skip
    def test_a_price_gives_back_its_volatility(
        self, years: float, rate: float, carry: float, vol: float, ratio: float, pays: bool
    ) -> None:
        when, paid = (np.array([0.4 * years]), np.array([0.9])) if pays else (NONE, NONE)
        rest, strike = SPOT - worth_of(rate, when, paid), SPOT * ratio
        sign = 1 if ratio > 1 else -1
        nodes, scale = log_nodes(0.8 * vol, 1.5 * vol, OUT_OF_THE_MONEY_VOLS), scales(70.0, 140.0, len(paid))
        table = build(years, rate, carry, when, paid, nodes, scale, sign)
        early, european, _, _ = early_exercise(rest, years, rate, carry, when, paid, strike, vol, sign, *BULK)
        price = early + european
        terms = (rest, years, rate, carry, when, paid, strike, sign)
        own, how = american_volatility(price, *terms, *BULK, CLOSE)
        found, status = volatility(price, *terms, table, nodes, scale)
        if how in (NO_TIME_VALUE, BELOW_INTRINSIC):
            self.assertEqual(status, how)
        elif how == OK and price > 0.01:
            self.assertEqual(status, OK)
            # what a hundredth of a cent in the price comes to in volatility, or a tenth of a point
            bumped, _ = american_volatility(price + 0.004, *terms, *BULK, CLOSE)
            self.assertLess(abs(found - own), max(1e-3, abs(bumped - own)))


class DeltaTest(unittest.TestCase):
    def test_deltas_of_a_chain_are_those_of_each_contract(self) -> None:
        strikes = np.concatenate([np.arange(76.0, 126.0, 2)] * 2)
        sign = np.repeat(np.array([1, -1], np.int64), 25)
        iv = np.round(10_000 * (0.25 + 0.6 * np.log(strikes / 100) ** 2)).astype(np.uint16)
        iv[7] = 0
        for years, rate, carry, (when, paid) in TableTest.CASES:
            rest = SPOT - worth_of(rate, when, paid)
            forward = rest * math.exp(carry * years)
            found = delta_grid(SPOT, forward, strikes, years, iv, rate, when, paid, sign)
            self.assertEqual(found[7], NO_DELTA)
            for i in range(50):
                if i == 7:
                    continue
                fine = early_exercise(
                    rest, years, rate, carry, when, paid, strikes[i], iv[i] * 1e-4, int(sign[i]), 96, 240
                )[2]
                inside = sign[i] * (strikes[i] - SPOT) < 0
                self.assertAlmostEqual(found[i] / 10_000, fine, delta=0.006 if inside else 0.0006, msg=(years, i))

    def test_without_a_price_there_are_none(self) -> None:
        iv = np.array([2000], np.uint16)
        one = np.array([100.0]), 0.1, iv, 0.03, np.array([0.05]), np.array([200.0]), np.array([1], np.int64)
        self.assertEqual(delta_grid(100.0, 100.0, *one).tolist(), [NO_DELTA], "its dividends use the price up")
