"""Implied volatility: round trip, other implementations, and prices that have none."""

from __future__ import annotations

import math
import unittest

import numpy as np
import QuantLib as ql
from hypothesis import given, settings
from hypothesis import strategies as st
from py_lets_be_rational import implied_volatility_from_a_transformed_rational_guess as lets_be_rational

from strell_core.pricing import implied
from strell_core.pricing.black import black_price
from strell_core.pricing.implied import implied_many, implied_volatility, normalised_black

HOUR = 1 / 8760


def out_of_the_money_grid() -> tuple[np.ndarray, ...]:
    """|ln K/F| ≤ 1, 3 to 200 %, one hour to three years: where a float can still hold the price."""
    rows = []
    for x in np.linspace(-1, 1, 41):
        for vol in (0.03, 0.05, 0.1, 0.15, 0.2, 0.3, 0.5, 0.8, 1.2, 2.0):
            for years in (HOUR, 6 * HOUR, 1 / 365, 7 / 365, 30 / 365, 0.25, 1.0, 3.0):
                beta = normalised_black(-abs(x), vol * math.sqrt(years))
                if beta > 1e-280:
                    strike = 3100 * math.exp(x)
                    rows.append((beta * math.sqrt(3100 * strike), 3100.0, strike, years, 1 if x >= 0 else -1, vol))
    price, forward, strike, years, sign, vol = (np.array(c) for c in zip(*rows, strict=True))
    return price, forward, strike, years, sign.astype(np.int64), vol


class RoundTripTest(unittest.TestCase):
    def test_the_grid_comes_back_to_machine_precision(self) -> None:
        price, forward, strike, years, sign, vol = out_of_the_money_grid()
        self.assertGreater(len(price), 2_000)
        found, status = implied_many(price, forward, strike, years, sign)
        self.assertTrue((status == implied.OK).all())
        self.assertLess(float(np.abs(found - vol).max()), 1e-12)

    @settings(max_examples=400, deadline=None)
    @given(x=st.floats(-1, 1), vol=st.floats(0.03, 2.0), years=st.floats(HOUR, 3.0))
    def test_anywhere_in_between(self, x: float, vol: float, years: float) -> None:
        beta = normalised_black(-abs(x), vol * math.sqrt(years))
        if beta < 1e-280:
            return
        strike = 3100 * math.exp(x)
        price = beta * math.sqrt(3100 * strike)
        found, status = implied_volatility(price, 3100.0, strike, years, 1 if x >= 0 else -1)
        self.assertEqual(status, implied.OK)
        self.assertLess(abs(found - vol), 1e-12)


class AgainstOthersTest(unittest.TestCase):
    def test_lets_be_rational(self) -> None:
        """Reference: P. Jäckel's algorithm as published in the package py_lets_be_rational."""
        price, forward, strike, years, sign, _ = out_of_the_money_grid()
        every = slice(None, None, 7)
        for p, f, k, t, s in zip(price[every], forward[every], strike[every], years[every], sign[every], strict=True):
            wanted = lets_be_rational(p, f, k, t, float(s))
            self.assertLess(abs(implied_volatility(p, f, k, t, int(s))[0] - wanted), 1e-10)

    def test_quantlib(self) -> None:
        """Reference: QuantLib's blackFormulaImpliedStdDev at an accuracy of 1e-12."""
        for strike, years, vol in ((3000.0, 0.1, 0.2), (3300.0, 0.5, 0.15), (2900.0, 0.02, 0.4), (3100.0, 1.0, 0.8)):
            sign = 1 if strike >= 3100 else -1
            price = black_price(3100.0, strike, years, vol, 1.0, sign)
            kind = ql.Option.Call if sign > 0 else ql.Option.Put
            deviation = ql.blackFormulaImpliedStdDev(
                kind, strike, 3100.0, price, 1.0, 0.0, vol * math.sqrt(years), 1e-12, 1000
            )
            self.assertAlmostEqual(
                implied_volatility(price, 3100.0, strike, years, sign)[0], deviation / math.sqrt(years), places=9
            )


class NoVolatilityTest(unittest.TestCase):
    """Impossible prices give none with a status, never a wrong number."""

    def status(
        self, price: float, forward: float = 3100.0, strike: float = 3000.0, years: float = 0.1, sign: int = 1
    ) -> int:
        vol, status = implied_volatility(price, forward, strike, years, sign)
        self.assertEqual(math.isnan(vol), status not in (implied.OK, implied.NO_TIME_VALUE))
        return status

    def test_statuses(self) -> None:
        self.assertEqual(self.status(99.9), implied.BELOW_INTRINSIC)
        self.assertEqual(self.status(-1.0, sign=-1), implied.BELOW_INTRINSIC)
        self.assertEqual(self.status(3100.0), implied.ABOVE_CAP)
        self.assertEqual(self.status(3100.0 * (1 - 1e-13)), implied.ABOVE_CAP)
        self.assertEqual(self.status(120.0, years=0.0), implied.EXPIRED)
        self.assertEqual(self.status(120.0, years=math.nan), implied.EXPIRED)
        self.assertEqual(self.status(math.nan), implied.BAD_INPUT)
        self.assertEqual(self.status(120.0, forward=-5.0), implied.BAD_INPUT)
        self.assertEqual(self.status(120.0, strike=math.inf), implied.BAD_INPUT)
        self.assertEqual(set(implied.STATUS_TEXT), set(range(7)))

    def test_exactly_intrinsic_has_no_time_value(self) -> None:
        self.assertEqual(implied_volatility(100.0, 3100.0, 3000.0, 0.1, 1), (0.0, implied.NO_TIME_VALUE))
        self.assertEqual(implied_volatility(0.0, 3100.0, 3000.0, 0.1, -1), (0.0, implied.NO_TIME_VALUE))

    def test_tiny_prices_at_the_money_come_back(self) -> None:
        for price in (1e-280, 3.77e-206, 1e-100, 1e-20, 1e-9, 1e-5, 1e-3):
            vol, status = implied_volatility(price, 1.5, 1.5, 1.0, 1)
            self.assertEqual(status, implied.OK)
            # at the money a small price is forward × volatility / √(2π)
            self.assertAlmostEqual(vol / (price / 1.5 * math.sqrt(2 * math.pi)), 1.0, places=6)

    def test_strikes_a_hair_from_the_money_come_back(self) -> None:
        for hair in (1e-15, 1e-13, 1e-12, 1e-9):
            strike = 3100.0 * (1 + hair)
            for vol in (1e-6, 0.01, 0.2, 2.0):
                price = black_price(3100.0, strike, 0.1, vol, 1.0, 1)
                self.assertAlmostEqual(
                    implied_volatility(price, 3100.0, strike, 0.1, 1)[0], vol, delta=1e-12 + 1e-9 * vol
                )

    @settings(max_examples=2000, deadline=None)
    @given(
        price=st.floats(allow_nan=True, allow_infinity=True), forward=st.floats(), strike=st.floats(),
        years=st.floats(), sign=st.sampled_from([1, -1]),
    )  # fmt: skip
    def test_any_floats_give_a_number_that_reprices_or_none(
        self, price: float, forward: float, strike: float, years: float, sign: int
    ) -> None:
        vol, status = implied_volatility(price, forward, strike, years, sign)
        if status == implied.OK:
            self.assertGreater(vol, 0)
            if 1e-3 < forward < 1e6 and 1e-3 < strike < 1e6 and 1e-4 < years < 50:
                again = black_price(forward, strike, years, vol, 1.0, sign)
                self.assertAlmostEqual(again, price, delta=1e-9 * max(1.0, forward))
