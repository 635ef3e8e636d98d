"""American options against QuantLib, a binomial tree, worked examples and what must always hold."""

from __future__ import annotations

import dataclasses
import math
import unittest
from typing import Any

import numpy as np
import QuantLib as ql
from hypothesis import example, given, settings
from hypothesis import strategies as st

from strell_core.market.view import NO_DELTA
from strell_core.pricing.american import (
    BULK,
    CLOSE,
    PRECISE,
    american_volatility,
    certain_value,
    early_exercise,
    never_early,
    values,
)
from strell_core.pricing.american import (
    greeks as greeks_by,
)
from strell_core.pricing.black import greeks_many
from strell_core.pricing.implied import BELOW_INTRINSIC, NO_TIME_VALUE, OK
from strell_core.pricing.premium_table import delta_grid
from tests.pricing.american_grid import Carry, Case, grid, option, reference


def greeks(*case: Any) -> np.ndarray:
    return greeks_by(*case, *PRECISE)


def value(case: Case, how: tuple[int, int] = PRECISE) -> float:
    carry = case.carry()
    premium, european, _, _ = early_exercise(*terms(carry), float(case.strike), case.vol, case.sign, *how)
    return float(premium + european)


def terms(carry: Carry) -> tuple:
    return (carry.rest, carry.years, carry.rate, carry.carry, carry.dividend_years, carry.dividends)


class AgainstQuantLibTest(unittest.TestCase):
    """Reference: QuantLib 1.44, QdFpAmericanEngine (L. Andersen, M. Lake and D. Offengenden, "High performance
    American option pricing", 2015) in its high-precision scheme, and FdBlackScholesVanillaEngine with escrowed
    dividends. The whole grid of 2 000 contracts is in ``bench/american.py``."""

    def test_without_dividends(self) -> None:
        cases = [case for case in grid(500) if not case.discrete]
        wanted = np.array([reference(case) for case in cases])
        for how, bar in ((BULK, 0.02), (PRECISE, 0.003)):
            error = np.abs(np.array([value(case, how) for case in cases]) - wanted)
            self.assertLess(np.percentile(error, 99), bar)
            self.assertLess(error.max(), 2 * bar)

    def test_with_discrete_dividends(self) -> None:
        cases = [case for case in grid(120) if case.discrete and case.days <= 365]
        self.assertGreater(len(cases), 30)
        wanted = np.array([reference(case, 400, 300) for case in cases])
        for how, bar in ((BULK, 0.02), (PRECISE, 0.004)):
            error = np.abs(np.array([value(case, how) for case in cases]) - wanted)
            self.assertLess(error.max(), bar)


class BinomialTest(unittest.TestCase):
    """J. Cox, S. Ross and M. Rubinstein, "Option pricing: a simplified approach", Journal of Financial
    Economics 7 (1979): their tree, as plain as it can be, comes to the same values."""

    def test_a_tree_converges_to_the_same_value(self) -> None:
        for strike, vol, rate, pays, sign in (
            (100, 0.3, 0.05, 0.0, -1),
            (110, 0.2, 0.04, 0.06, 1),
            (95, 0.5, 0.0, 0.03, 1),
        ):
            found = sum(early_exercise(100.0, 0.75, rate, rate - pays, *NONE, strike, vol, sign, *PRECISE)[:2])
            tree = [_tree(100.0, strike, 0.75, rate, pays, vol, sign, steps) for steps in (3000, 3001)]
            self.assertAlmostEqual(found, sum(tree) / 2, delta=0.003)


NONE = (np.empty(0), np.empty(0))


def _tree(
    spot: float, strike: float, years: float, rate: float, pays: float, vol: float, sign: int, steps: int
) -> float:
    dt = years / steps
    up = math.exp(vol * math.sqrt(dt))
    chance = (math.exp((rate - pays) * dt) - 1 / up) / (up - 1 / up)
    prices = spot * up ** (2.0 * np.arange(steps + 1) - steps)
    values = np.maximum(sign * (prices - strike), 0.0)
    for left in range(steps - 1, -1, -1):
        prices = spot * up ** (2.0 * np.arange(left + 1) - left)
        values = math.exp(-rate * dt) * (chance * values[1:] + (1 - chance) * values[:-1])
        values = np.maximum(values, sign * (prices - strike))
    return float(values[0])


class WorkedExamplesTest(unittest.TestCase):
    """Figures recalled from memory, not looked up."""

    def test_hull_american_put(self) -> None:
        """J. Hull, Options, Futures and Other Derivatives: S 50, K 50, 10 %, 40 %, 5 months: 4.28."""
        self.assertAlmostEqual(
            sum(early_exercise(50.0, 5 / 12, 0.1, 0.1, *NONE, 50.0, 0.4, -1, *PRECISE)[:2]), 4.28, delta=0.006
        )

    def test_hull_european_call_with_dividends(self) -> None:
        """J. Hull: S 40, K 40, 9 %, 30 %, 6 months, dividends of 0.50 in 2 and 5 months: 3.67 without early exercise."""
        carry = _with_dividends(40.0, 0.5, 0.09, [(2 / 12, 0.5), (5 / 12, 0.5)])
        premium, european, _, _ = early_exercise(*terms(carry), 40.0, 0.3, 1, *PRECISE)
        self.assertAlmostEqual(european, 3.67, delta=0.005)
        self.assertGreater(premium, 0.01)

    def test_no_early_exercise_of_a_call_that_pays_nothing(self) -> None:
        """R. Merton, "Theory of rational option pricing", Bell Journal 4 (1973), theorem 2."""
        premium, european, delta, _ = early_exercise(100.0, 1.0, 0.05, 0.05, *NONE, 100.0, 0.2, 1, *BULK)
        self.assertEqual(premium, 0.0)
        self.assertAlmostEqual(european, 10.4506, places=4)
        self.assertAlmostEqual(delta, 0.6368, places=4)


def _with_dividends(spot: float, years: float, rate: float, paid: list[tuple[float, float]]) -> Carry:
    when, points = (np.array(column) for column in zip(*paid, strict=True))
    rest = spot - float(np.sum(points * np.exp(-rate * when)))
    return Carry.implied(spot, rest * math.exp(rate * years), years, rate, when, points)


class GreeksTest(unittest.TestCase):
    """Reference: QuantLib's finite differences (delta, gamma, theta) and its value at shifted volatility."""

    def test_against_quantlib(self) -> None:
        for strike, sign, rate, pays in ((95.0, -1, 0.05, 0.0), (105.0, -1, 0.05, 0.02), (100.0, 1, 0.02, 0.06)):
            case = Case(182, strike, 0.25, rate, pays, sign, False)
            made, process = option(case)
            made.setPricingEngine(ql.FdBlackScholesVanillaEngine(process, 400, 800))
            years = 182 / 365
            forward = 100 * math.exp((rate - pays) * years)
            delta, gamma, theta, vega, _, vanna, charm = greeks(100.0, forward, strike, years, 0.25, rate, *NONE, sign)
            self.assertAlmostEqual(delta, made.delta(), delta=0.002)
            self.assertAlmostEqual(gamma, made.gamma(), delta=0.002)
            self.assertAlmostEqual(theta, made.theta() / 365, delta=0.0005)
            shifted = [reference(dataclasses.replace(case, vol=0.25 + h)) for h in (0.005, -0.005)]
            self.assertAlmostEqual(vega, shifted[0] - shifted[1], delta=0.002)
            deltas = []
            for other in (dataclasses.replace(case, vol=0.26), dataclasses.replace(case, vol=0.24)):
                bumped, process = option(other)
                bumped.setPricingEngine(ql.FdBlackScholesVanillaEngine(process, 400, 800))
                deltas.append(bumped.delta())
            self.assertAlmostEqual(vanna, (deltas[0] - deltas[1]) / 2, delta=0.0003)
            sooner, process = option(dataclasses.replace(case, days=172))
            sooner.setPricingEngine(ql.FdBlackScholesVanillaEngine(process, 400, 800))
            self.assertAlmostEqual(charm, (sooner.delta() - made.delta()) / 10, delta=0.0003)

    def test_an_option_that_is_never_exercised_early_has_the_european_ones(self) -> None:
        found = greeks(100.0, 100 * math.exp(0.05 * 0.5), 100.0, 0.5, 0.2, 0.05, *NONE, 1)
        plain = greeks_many(
            np.array([100 * math.exp(0.05 * 0.5)]),
            np.array([100.0]),
            np.array([0.5]),
            np.array([0.2]),
            0.05,
            np.array([1]),
        )[:, 0]
        self.assertAlmostEqual(found[0], plain[0] * math.exp(0.05 * 0.5), places=6, msg="per point of the price")
        self.assertAlmostEqual(found[3], plain[3], delta=1e-3)

    def test_deltas_of_a_chain(self) -> None:
        strikes = np.array([70.0, 84.0, 100.0, 84.0])
        sign = np.array([1, 1, -1, -1])
        found = delta_grid(84.0, 84.2, strikes, 0.25, np.array([3000, 3000, 3000, 0], np.uint16), 0.03, *NONE, sign)
        for got, strike, s in zip(found[:3].tolist(), strikes.tolist(), sign.tolist(), strict=False):
            wanted = greeks(84.0, 84.2, strike, 0.25, 0.3, 0.03, *NONE, s)[0]
            self.assertAlmostEqual(got / 10_000, wanted, delta=0.005)
        self.assertEqual(found[3], NO_DELTA)


class DividendsTest(unittest.TestCase):
    def test_a_large_dividend_is_taken_just_before_it_is_paid(self) -> None:
        """A call that will certainly be exercised before the dividend is worth spot less discounted strike."""
        carry = _with_dividends(100.0, 0.5, 0.04, [(0.25, 15.0)])
        premium, european, delta, _ = early_exercise(*terms(carry), 60.0, 0.1, 1, *PRECISE)
        self.assertAlmostEqual(premium + european, 100.0 - 60.0 * math.exp(-0.04 * 0.25), delta=0.002)
        self.assertAlmostEqual(delta, 1.0, delta=0.005)

    def test_greeks_with_dividends_to_come_are_slopes(self) -> None:
        when, paid = np.array([0.1, 0.35]), np.array([1.5, 1.5])
        rest = 100.0 - float(np.sum(paid * np.exp(-0.03 * when)))
        forward, years = rest * math.exp(0.03 * 0.5), 0.5
        for strike, sign in ((90.0, 1), (100.0, 1), (100.0, -1), (108.0, -1)):

            def at(spot: float, vol: float, strike: float = strike, sign: int = sign) -> float:
                return float(values(np.array([spot]), strike, years, np.array([vol]), 0.03, 0.03, when, paid, sign)[0])

            delta, _, _, vega, *_ = greeks(100.0, forward, strike, years, 0.25, 0.03, when, paid, sign)
            self.assertAlmostEqual(delta, (at(101.0, 0.25) - at(99.0, 0.25)) / 2, delta=0.006)
            self.assertAlmostEqual(vega, at(100.0, 0.255) - at(100.0, 0.245), delta=0.006)
            grid = delta_grid(
                100.0,
                forward,
                np.array([strike]),
                years,
                np.array([2500], np.uint16),
                0.03,
                when,
                paid,
                np.array([sign]),
            )
            self.assertAlmostEqual(grid[0] / 10_000, delta, delta=0.005)
        self.assertTrue(
            np.isnan(greeks(1.0, 1.0, 1.0, 0.5, 0.2, 0.0, when, paid, 1)).all(), "worth more than the price"
        )
        self.assertEqual(values(np.array([1.0]), 5.0, 0.5, np.array([0.2]), 0.0, 0.0, when, paid, -1)[0], 4.0)

    def test_the_carry_of_an_implied_forward_gives_it_back(self) -> None:
        carry = Carry.implied(84.0, 83.1, 0.4, 0.02, np.array([-0.1, 0.1, 0.3, 0.6]), np.array([1.0, 0.6, 0.6, 0.6]))
        self.assertEqual(carry.dividends.tolist(), [0.6, 0.6], "only those until expiration")
        self.assertAlmostEqual(carry.forward, 83.1, places=10)
        with self.assertRaisesRegex(ValueError, "worth more than the price"):
            Carry.implied(1.0, 1.0, 0.4, 0.02, np.array([0.1]), np.array([1.5]))

    def test_options_on_futures_have_no_carry(self) -> None:
        """An option on a futures price is the case of zero carry; both rights gain from early exercise."""
        call = early_exercise(100.0, 1.0, 0.06, 0.0, *NONE, 80.0, 0.2, 1, *PRECISE)
        put = early_exercise(100.0, 1.0, 0.06, 0.0, *NONE, 120.0, 0.2, -1, *PRECISE)
        self.assertGreater(call[0], 0.3)
        self.assertGreater(put[0], 0.3)


CASES = st.tuples(
    st.sampled_from((60.0, 90.0, 100.0, 110.0, 150.0)), st.floats(0.01, 2.0), st.floats(-0.01, 0.08),
    st.floats(-0.05, 0.08), st.floats(0.05, 1.0), st.sampled_from((1, -1)),
    st.lists(st.tuples(st.floats(0.005, 1.9), st.floats(0.0, 2.0)), max_size=4),
)  # fmt: skip


class PropertiesTest(unittest.TestCase):
    @settings(max_examples=150, deadline=None)
    @given(CASES)
    @example((110.0, 0.0625, 0.0, 0.0625, 0.25, -1, []))  # a price that drifts up without interest: exercise pays
    def test_value_bounds(self, case: tuple) -> None:
        strike, years, rate, carry, vol, sign, paid = case
        when = np.array(sorted(at for at, _ in paid if at < years))
        amounts = np.full(len(when), 0.7)
        args = (100.0, years, rate, carry, when, amounts)
        premium, european, delta, gamma = early_exercise(*args, strike, vol, sign, *BULK)
        self.assertGreaterEqual(premium, 0.0)
        self.assertGreaterEqual(premium + european, certain_value(*args, strike, sign) - 0.02)
        self.assertGreaterEqual(sign * delta, -0.02)
        self.assertTrue(math.isfinite(gamma))
        if never_early(rate, carry, sign, len(when)):
            self.assertLess(premium, 1e-9)

    @settings(max_examples=80, deadline=None)
    @given(CASES)
    def test_volatility_is_found_again(self, case: tuple) -> None:
        strike, years, rate, carry, vol, sign, paid = case
        when = np.array(sorted(at for at, _ in paid if at < years))
        args = (100.0, years, rate, carry, when, np.full(len(when), 0.7))
        price = float(sum(early_exercise(*args, strike, vol, sign, *BULK)[:2]))
        found, status = american_volatility(price, *args, strike, sign, *BULK, CLOSE)
        if price - certain_value(*args, strike, sign) < 1e-4:
            return  # next to no time value: the volatility is not determined
        self.assertEqual(status, OK)
        again = sum(early_exercise(*args, strike, found, sign, *BULK)[:2])
        self.assertAlmostEqual(again, price, delta=1e-5)

    def test_prices_that_cannot_be(self) -> None:
        args = (100.0, 0.5, 0.05, 0.05, *NONE)
        self.assertEqual(american_volatility(20.0, *args, 120.0, -1, *BULK, CLOSE), (0.0, NO_TIME_VALUE))
        self.assertEqual(american_volatility(19.5, *args, 120.0, -1, *BULK, CLOSE)[1], BELOW_INTRINSIC)
        self.assertNotEqual(american_volatility(121.0, *args, 120.0, -1, *BULK, CLOSE)[1], OK)

    def test_delta_and_gamma_are_slopes_of_the_value(self) -> None:
        for strike, sign in ((90.0, -1), (100.0, -1), (112.0, -1), (95.0, 1)):

            def at(spot: float, strike: float = strike, sign: int = sign) -> float:
                return float(sum(early_exercise(spot, 0.6, 0.06, 0.01, *NONE, strike, 0.25, sign, 96, 240)[:2]))

            _, _, delta, gamma = early_exercise(100.0, 0.6, 0.06, 0.01, *NONE, strike, 0.25, sign, *PRECISE)
            self.assertAlmostEqual(delta, (at(101.0) - at(99.0)) / 2, delta=0.003)
            self.assertAlmostEqual(gamma, at(101.0) - 2 * at(100.0) + at(99.0), delta=0.003)
