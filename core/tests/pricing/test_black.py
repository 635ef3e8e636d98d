"""Black-76 against QuantLib, worked examples and differentiation."""

from __future__ import annotations

import itertools
import math
import unittest

import numpy as np
import QuantLib as ql

from strell_core.pricing.black import DAY, black_delta, black_price, delta_grid, greeks_many, price_many, years_between

GRID = list(
    itertools.product(
        (2_400.0, 3_100.0), (2_700.0, 3_100.0, 3_600.0), (1 / 8760, 0.02, 0.25, 2.0), (0.05, 0.2, 0.9), (1, -1)
    )
)


def arrays(grid: list[tuple[float, float, float, float, int]]) -> tuple[np.ndarray, ...]:
    forward, strike, years, vol, sign = (np.array(column, float) for column in zip(*grid, strict=True))
    return forward, strike, years, vol, sign.astype(np.int64)


class AgainstQuantLibTest(unittest.TestCase):
    """Reference: QuantLib's blackFormula and BlackCalculator."""

    def test_prices(self) -> None:
        for forward, strike, years, vol, sign in GRID:
            kind = ql.Option.Call if sign > 0 else ql.Option.Put
            discount = math.exp(-0.021 * years)
            wanted = ql.blackFormula(kind, strike, forward, vol * math.sqrt(years), discount)
            # far out of the money QuantLib's normal distribution keeps fewer digits than erfc
            self.assertAlmostEqual(black_price(forward, strike, years, vol, discount, sign), wanted, delta=1e-9)

    def test_greeks(self) -> None:
        forward, strike, years, vol, sign = arrays(GRID)
        found = greeks_many(forward, strike, years, vol, 0.021, sign)
        for i, (f, k, t, v, s) in enumerate(GRID):
            payoff = ql.PlainVanillaPayoff(ql.Option.Call if s > 0 else ql.Option.Put, k)
            discount = math.exp(-0.021 * t)
            calculator = ql.BlackCalculator(payoff, f, v * math.sqrt(t), discount)
            self.assertAlmostEqual(found[0, i], calculator.deltaForward(), delta=1e-9)
            self.assertAlmostEqual(found[1, i], calculator.gammaForward(), delta=1e-9)
            self.assertAlmostEqual(found[3, i], calculator.vega(t) * 0.01, delta=1e-8)


class WorkedExamplesTest(unittest.TestCase):
    """Figures recalled from memory, not looked up."""

    def test_haug_black_76(self) -> None:
        """E. Haug, The Complete Guide to Option Pricing Formulas, Black-76: F 19, K 19, 9 months, 10 %, 28 %."""
        discount = math.exp(-0.10 * 0.75)
        for sign in (1, -1):
            self.assertAlmostEqual(black_price(19.0, 19.0, 0.75, 0.28, discount, sign), 1.7011, places=4)

    def test_hull_futures_put(self) -> None:
        """J. Hull, Options, Futures and Other Derivatives, futures option: F 20, K 20, 4 months, 9 %, 25 %: 1.12."""
        self.assertAlmostEqual(black_price(20.0, 20.0, 4 / 12, 0.25, math.exp(-0.09 * 4 / 12), -1), 1.12, places=2)

    def test_hull_stock_option(self) -> None:
        """Hull, Black-Scholes-Merton: S 42, K 40, 6 months, 10 %, 20 %: call 4.76, put 0.81."""
        forward, discount = 42 * math.exp(0.05), math.exp(-0.05)
        self.assertAlmostEqual(black_price(forward, 40.0, 0.5, 0.2, discount, 1), 4.76, places=2)
        self.assertAlmostEqual(black_price(forward, 40.0, 0.5, 0.2, discount, -1), 0.81, places=2)


class DerivativesTest(unittest.TestCase):
    """Greeks are the derivatives they are called, by central differences of the price."""

    def test_theta_and_rho(self) -> None:
        grid = [g for g in GRID if g[2] > 0.01]
        forward, strike, years, vol, sign = arrays(grid)
        found = greeks_many(forward, strike, years, vol, 0.021, sign)
        step = 1e-5
        later = price_many(forward, strike, years - step, vol, 0.021, sign)
        sooner = price_many(forward, strike, years + step, vol, 0.021, sign)
        np.testing.assert_allclose(found[2], (later - sooner) / (2 * step) * DAY, rtol=1e-4, atol=1e-5)
        up = price_many(forward, strike, years, vol, 0.022, sign)
        down = price_many(forward, strike, years, vol, 0.020, sign)
        np.testing.assert_allclose(found[4], (up - down) / 0.002 * 0.01, rtol=1e-4, atol=1e-8)

    def test_vanna_and_charm(self) -> None:
        """By QuantLib's delta either side in volatility and in time."""
        grid = [g for g in GRID if g[2] > 0.01]
        found = greeks_many(*arrays(grid)[:4], 0.021, arrays(grid)[4])

        def delta(f: float, k: float, t: float, v: float, s: int) -> float:
            payoff = ql.PlainVanillaPayoff(ql.Option.Call if s > 0 else ql.Option.Put, k)
            return ql.BlackCalculator(payoff, f, v * math.sqrt(t), math.exp(-0.021 * t)).deltaForward()

        for i, (f, k, t, v, s) in enumerate(grid):
            vanna = (delta(f, k, t, v + 1e-5, s) - delta(f, k, t, v - 1e-5, s)) / 2e-5 * 0.01
            charm = (delta(f, k, t - 1e-6, v, s) - delta(f, k, t + 1e-6, v, s)) / 2e-6 * DAY
            self.assertAlmostEqual(found[5, i], vanna, delta=1e-6)
            self.assertAlmostEqual(found[6, i], charm, delta=1e-6)

    def test_parity(self) -> None:
        for forward, strike, years, vol, _ in GRID:
            discount = math.exp(-0.021 * years)
            call = black_price(forward, strike, years, vol, discount, 1)
            put = black_price(forward, strike, years, vol, discount, -1)
            self.assertAlmostEqual(call - put, discount * (forward - strike), delta=1e-9)


class EdgesTest(unittest.TestCase):
    def test_without_time_or_volatility_only_intrinsic_is_left(self) -> None:
        self.assertEqual(black_price(3100.0, 3000.0, 0.0, 0.2, 1.0, 1), 100.0)
        self.assertEqual(black_price(3100.0, 3000.0, 0.5, 0.0, 1.0, -1), 0.0)
        self.assertEqual(black_delta(3100.0, 3000.0, 0.0, 0.2, 1.0, 1), 1.0)
        self.assertEqual(black_delta(3100.0, 3000.0, 0.0, 0.2, 1.0, -1), 0.0)

    def test_time_is_counted_to_the_second_and_never_negative(self) -> None:
        self.assertEqual(years_between(1_000, 1_000 + 365 * 86_400), 1.0)
        self.assertEqual(years_between(10, 5), 0.0)

    def test_delta_grid_marks_quotes_without_volatility(self) -> None:
        iv = np.array([0, 2000], np.uint16)
        strike, sign = np.array([3100.0, 3100.0]), np.array([1, 1], np.int64)
        found = delta_grid(3100.0, strike, 0.1, iv, 0.0, sign)
        self.assertEqual(found[0], -32768)
        self.assertEqual(found[1], round(10_000 * black_delta(3100.0, 3100.0, 0.1, 0.2, 1.0, 1)))
