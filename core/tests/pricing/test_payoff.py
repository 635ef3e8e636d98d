"""Payoffs of structures: exact where they are straight, by model where they are not."""

from __future__ import annotations

import dataclasses
import datetime as dt
import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from strell_core.pricing.black import GREEKS, YEAR_SECONDS, black_price, normal_cdf
from strell_core.pricing.payoff import (
    PayoffLeg,
    greek_curves,
    leg_values,
    profit,
    shifted,
    spot_grid,
    summary,
    underlying_leg,
    undiscounted,
)
from strell_core.pricing.smile import Fit, Smile

NOW, NEAR, FAR = 0, 10 * 86_400, 24 * 86_400
SPOT = 3100.0


def leg(
    contracts: int, sign: int, strike: float, opened: float, settlement: int = NEAR, vol: float = 0.15
) -> PayoffLeg:
    return PayoffLeg(contracts, sign, strike, settlement, vol, SPOT, opened)


STRANGLE = [leg(-1, 1, 3160, 5.0), leg(-1, -1, 3040, 6.0)]
CONDOR = [*STRANGLE, leg(1, 1, 3200, 1.0), leg(1, -1, 3000, 2.0)]


class LaterLegTest(unittest.TestCase):
    def test_a_later_leg_is_valued_without_the_dividends_still_to_come(self) -> None:
        """Escrowed dividends: the price less what they are worth, grown to the settlement (Black-76)."""
        paid, rate = ((NEAR, 12.0), (FAR + 1, 50.0)), 0.03
        carry = PayoffLeg(1, 1, 3120.0, FAR, 0.15, (SPOT - 12.0 * math.exp(-rate * NEAR / YEAR_SECONDS)) * math.exp(rate * FAR / YEAR_SECONDS), 0.0, False, rate, paid[:1])  # fmt: skip
        for when in (NOW, NEAR // 2):
            left, to_come = (FAR - when) / YEAR_SECONDS, 12.0 * math.exp(-rate * (NEAR - when) / YEAR_SECONDS)
            for price in (3000.0, 3100.0, 3250.0):
                forward = (price - to_come) * math.exp(rate * left)
                wanted = black_price(forward, 3120.0, left, 0.15, math.exp(-rate * left), 1)
                found = float(leg_values(carry, np.array([price]), SPOT, NOW, when)[0])
                self.assertAlmostEqual(found, wanted, places=6)


class OneExpirationTest(unittest.TestCase):
    def test_a_short_strangle(self) -> None:
        facts = summary(STRANGLE, SPOT, NOW)
        self.assertEqual(facts.break_evens, (3029.0, 3171.0))
        self.assertEqual(facts.max_profit.value, 11.0)
        self.assertIsNone(facts.max_loss.value, "the call is uncovered")
        self.assertIn("exact", facts.max_loss.found)

    def test_a_condor_loses_its_width_less_the_credit_at_most(self) -> None:
        """Common practice: a spread's maximum loss is its width less the credit."""
        facts = summary(CONDOR, SPOT, NOW)
        self.assertEqual(facts.max_profit.value, 8.0)
        self.assertEqual(facts.max_loss.value, -(40.0 - 8.0))
        self.assertEqual(facts.break_evens, (3032.0, 3168.0))

    def test_a_short_put_is_worst_at_zero(self) -> None:
        facts = summary([leg(-1, -1, 3040, 6.0)], SPOT, NOW)
        self.assertEqual(facts.max_loss.value, -(3040.0 - 6.0))

    def test_a_long_call_has_no_best(self) -> None:
        facts = summary([leg(1, 1, 3160, 5.0)], SPOT, NOW)
        self.assertIsNone(facts.max_profit.value)
        self.assertEqual(facts.max_loss.value, -5.0)
        self.assertEqual(facts.break_evens, (3165.0,))

    def test_chance_of_profit_is_the_lognormal_mass_between_the_break_evens(self) -> None:
        spread = 0.15 * math.sqrt(NEAR / YEAR_SECONDS)
        low, high = (normal_cdf(math.log(k / SPOT) / spread + spread / 2) for k in (3029.0, 3171.0))
        self.assertAlmostEqual(summary(STRANGLE, SPOT, NOW).chance_of_profit or 0, high - low, places=12)

    @settings(max_examples=150, deadline=None)
    @given(
        st.lists(
            st.tuples(st.integers(-3, 3).filter(bool), st.sampled_from([1, -1]), st.integers(280, 340), st.integers(0, 900)),
            min_size=1, max_size=6,
        )
    )  # fmt: skip
    def test_extremes_bound_the_payoff_and_break_evens_are_zeros(self, rows: list[tuple[int, int, int, int]]) -> None:
        legs = [leg(n, sign, 10.0 * strike, premium / 10) for n, sign, strike, premium in rows]
        facts = summary(legs, SPOT, NOW)
        values = profit(legs, np.linspace(1.0, 6000.0, 1200), SPOT, NOW, NEAR)
        if facts.max_profit.value is not None:
            self.assertLessEqual(values.max(), facts.max_profit.value + 1e-6)
        if facts.max_loss.value is not None:
            self.assertGreaterEqual(values.min(), facts.max_loss.value - 1e-6)
        for at in facts.break_evens:
            self.assertAlmostEqual(float(profit(legs, np.array([at]), SPOT, NOW, NEAR)[0]), 0.0, delta=1e-6)


class NowTest(unittest.TestCase):
    def test_put_call_parity_of_a_synthetic_forward(self) -> None:
        grid = spot_grid(STRANGLE, SPOT)
        synthetic = [leg(1, 1, 3100, 0.0), leg(-1, -1, 3100, 0.0)]
        np.testing.assert_allclose(profit(synthetic, grid, SPOT, NOW, NOW), grid - 3100, atol=1e-8)

    def test_at_expiration_only_intrinsic_is_left(self) -> None:
        grid = spot_grid(STRANGLE, SPOT)
        by_hand = 11.0 - np.maximum(grid - 3160, 0) - np.maximum(3040 - grid, 0)
        np.testing.assert_allclose(profit(STRANGLE, grid, SPOT, NOW, NEAR), by_hand, atol=1e-9)

    def test_every_strike_and_the_price_are_on_the_grid(self) -> None:
        grid = spot_grid(CONDOR, SPOT)
        for price in (3000, 3040, 3100, 3160, 3200):
            self.assertIn(price, grid)

    def test_the_grid_reaches_a_third_of_the_strikes_beyond_them_and_at_least_three_percent_of_the_price(self) -> None:
        # 200 points between the outermost strikes, of which 35 % are less than 3 % of 3100
        grid = spot_grid(CONDOR, SPOT)
        self.assertEqual((grid[0], grid[-1]), (3000 - 93.0, 3200 + 93.0))
        self.assertEqual(len(grid), 161 + 4, "four strikes beside them; the price stands in the middle already")
        wide = spot_grid([leg(-1, -1, 2600, 1.0), leg(-1, 1, 3600, 1.0)], SPOT)
        self.assertEqual((wide[0], wide[-1]), (2600 - 350.0, 3600 + 350.0))
        self.assertEqual(spot_grid([leg(1, 1, 2.0, 1.0)], 90.0)[0], 0.0, "no price lies below nothing")
        self.assertEqual(spot_grid([underlying_leg(1, SPOT)], SPOT)[0], SPOT - 93.0)

    def test_at_expiration_delta_is_all_or_nothing(self) -> None:
        at = np.array([2990.0, 3040.0, 3100.0, 3160.0, 3210.0])
        for later in (NEAR, NEAR + 86_400):
            found = greek_curves(STRANGLE, at, SPOT, NOW, later)
            np.testing.assert_array_equal(found["delta"], [1, 0, 0, 0, -1])
            for name in GREEKS[1:]:
                np.testing.assert_array_equal(found[name], np.zeros(5), name)
        with_units = greek_curves([*STRANGLE, underlying_leg(2, SPOT)], at, SPOT, NOW, NEAR)
        np.testing.assert_array_equal(with_units["delta"], [3, 2, 2, 2, 1])

    def test_higher_volatility_hurts_a_short_strangle(self) -> None:
        at = np.array([SPOT])
        self.assertLess(
            profit(shifted(STRANGLE, 0.05, {}), at, SPOT, NOW, NOW)[0], profit(STRANGLE, at, SPOT, NOW, NOW)[0]
        )


def curve(vol: float, slant: float = 0.0, settlement: int = NEAR, rate: float = 0.0) -> Smile:
    """A curve with ``vol`` at the money; without slant it is flat."""
    years = settlement / YEAR_SECONDS
    w = vol * vol * years
    none = Fit(0, 0, math.nan, math.nan, math.nan, math.nan, math.nan)
    root = 0.1
    a, b = (w - abs(slant) * root, abs(slant)) if slant else (w, 0.0)
    rho = math.copysign(0.6, slant)
    return Smile(dt.date(2026, 1, 1), settlement, years, SPOT, rate, a, b, rho, 0.0, root, (SPOT, SPOT), none)


class ImpliedDistributionTest(unittest.TestCase):
    def test_an_option_with_a_strike_of_nothing_is_worth_its_payoff(self) -> None:
        flat = curve(0.2)
        self.assertEqual((undiscounted(flat, -10.0, 1), undiscounted(flat, 0.0, -1)), (SPOT + 10.0, 0.0))
        self.assertAlmostEqual(undiscounted(flat, 1e-6, 1), SPOT, places=5)

    def test_a_calendar_is_expected_to_make_what_its_later_leg_is_worth_on_average(self) -> None:
        """With flat curves of one volatility the later leg's value is a martingale: what it costs now."""
        near, far = leg(-1, 1, 3120, 0.0, NEAR), leg(1, 1, 3120, 0.0, FAR)
        flat = curve(0.15)
        expected = sum(
            one.contracts * black_price(SPOT, 3120.0, one.settlement / YEAR_SECONDS, 0.15, 1.0, 1)
            for one in (near, far)
        )
        self.assertAlmostEqual(summary([near, far], SPOT, NOW, flat).expected or 0, expected, delta=0.02)
        both = [near, dataclasses.replace(far, contracts=3), underlying_leg(2, SPOT)]
        self.assertAlmostEqual(
            summary(both, SPOT, NOW, flat).expected or 0,
            -black_price(SPOT, 3120.0, NEAR / YEAR_SECONDS, 0.15, 1.0, 1) + 3 * black_price(SPOT, 3120.0, FAR / YEAR_SECONDS, 0.15, 1.0, 1),
            delta=0.06,
        )  # fmt: skip

    def test_a_flat_curve_gives_the_lognormal_chance(self) -> None:
        flat = summary(STRANGLE, SPOT, NOW, curve(0.15))
        plain = summary(STRANGLE, SPOT, NOW)
        self.assertAlmostEqual(flat.chance_of_profit or 0, plain.chance_of_profit or 1, delta=1e-9)
        self.assertEqual((flat.chance_from, plain.chance_from), ("smile", "lognormal"))
        self.assertIsNone(plain.expected)

    def test_expected_payoff_is_the_undiscounted_price(self) -> None:
        """What an option is worth is its expected payoff (Black 1976), whatever the curve's shape."""
        for slant in (0.0, -0.004, 0.004):
            smile = curve(0.15, slant)
            for sign, strike in ((1, 3160), (-1, 3040), (1, 3000)):
                vol = float(smile.vol(strike))
                price = black_price(SPOT, strike, smile.years, vol, 1.0, sign)
                facts = summary([leg(1, sign, strike, 0.0)], SPOT, NOW, smile)
                self.assertAlmostEqual(facts.expected or 0, price, delta=2e-3, msg=f"{slant} {strike}")

    def test_a_curve_with_more_volatility_below_makes_low_prices_likelier(self) -> None:
        put = [leg(1, -1, 2950, 0.0)]
        slanted, flat = summary(put, SPOT, NOW, curve(0.15, -0.004)), summary(put, SPOT, NOW, curve(0.15))
        self.assertGreater(slanted.chance_of_profit or 0, flat.chance_of_profit or 1)

    def test_what_is_made_already_moves_break_evens_and_extremes(self) -> None:
        facts = summary(STRANGLE, SPOT, NOW, made=4.0)
        self.assertEqual(facts.break_evens, (3025.0, 3175.0))
        self.assertEqual(facts.max_profit.value, 15.0)


class UnderlyingLegTest(unittest.TestCase):
    def test_a_covered_call(self) -> None:
        """Common practice: at best the strike less the price paid plus the premium, at worst all but the premium."""
        facts = summary([underlying_leg(1, SPOT), leg(-1, 1, 3160, 5.0)], SPOT, NOW)
        self.assertEqual(facts.max_profit.value, 65.0)
        self.assertEqual(facts.max_loss.value, -3095.0)
        self.assertEqual(facts.break_evens, (3095.0,))

    def test_alone_it_is_a_straight_line(self) -> None:
        facts = summary([underlying_leg(-2, SPOT)], SPOT, NOW)
        self.assertIsNone(facts.max_loss.value)
        self.assertEqual(facts.max_profit.value, 2 * SPOT)
        self.assertEqual(facts.break_evens, (SPOT,))

    def test_a_break_even_beyond_every_strike_is_found(self) -> None:
        facts = summary([leg(1, 1, 3160, 4000.0)], SPOT, NOW)
        self.assertEqual(facts.break_evens, (7160.0,))


class GreekCurvesTest(unittest.TestCase):
    """They are the slopes of the P/L curve they belong to."""

    def slopes(self, legs: list[PayoffLeg], grid: np.ndarray, tolerance: float) -> None:
        found = greek_curves(legs, grid, SPOT, NOW, NOW)
        self.assertEqual(tuple(found), GREEKS)
        up, down = (profit(legs, grid + by, SPOT, NOW, NOW) for by in (1.0, -1.0))
        np.testing.assert_allclose(found["delta"], (up - down) / 2, atol=tolerance)
        wilder, calmer = (profit(shifted(legs, by, {}), grid, SPOT, NOW, NOW) for by in (0.005, -0.005))
        np.testing.assert_allclose(found["vega"], wilder - calmer, atol=tolerance)

    def test_european(self) -> None:
        self.slopes([*CONDOR, underlying_leg(1, SPOT)], spot_grid(CONDOR, SPOT, 21), 1e-3)

    def test_american(self) -> None:
        put = PayoffLeg(-1, -1, 3160.0, FAR, 0.15, SPOT * 1.001, 60.0, american=True, rate=0.03)
        self.slopes([put, underlying_leg(-1, SPOT)], spot_grid([put], SPOT, 9), 0.05)

    def test_volatility_of_one_expiration_alone(self) -> None:
        calendar = [leg(-1, -1, 3100, 15.0, NEAR), leg(1, -1, 3100, 25.0, FAR)]
        at = np.array([SPOT])
        base = profit(calendar, at, SPOT, NOW, NOW)[0]
        self.assertLess(profit(shifted(calendar, 0.0, {NEAR: 0.02}), at, SPOT, NOW, NOW)[0], base)
        self.assertGreater(profit(shifted(calendar, 0.0, {FAR: 0.02}), at, SPOT, NOW, NOW)[0], base)


class SettledTest(unittest.TestCase):
    def test_at_and_after_its_settlement_an_option_is_worth_its_exercise(self) -> None:
        prices = np.array([3_000.0, 3_100.0, 3_200.0])
        for at in (NEAR, NEAR + 86_400):
            for sign, worth in ((1, [0, 0, 50]), (-1, [150, 50, 0])):
                held = dataclasses.replace(leg(1, sign, 3_150.0, 5.0), rate=0.05)
                found = leg_values(held, prices, SPOT, NOW, at)
                self.assertEqual(found.tolist(), worth)


class SettledGreeksTest(unittest.TestCase):
    def test_what_is_settled_has_the_delta_of_what_it_has_become(self) -> None:
        """An expired call in the money is one unit a contract, a put minus one, out of the money nothing."""
        prices = np.array([3_000.0, 3_100.0, 3_200.0])
        for contracts, sign, expected in (
            (2, 1, (0, 0, 2)),
            (-3, 1, (0, 0, -3)),
            (2, -1, (-2, 0, 0)),
            (-3, -1, (3, 0, 0)),
        ):
            held = [leg(contracts, sign, 3_150.0 if sign > 0 else 3_050.0, 5.0)]
            curves = greek_curves(held, prices, SPOT, NOW, NEAR)
            self.assertEqual(tuple(curves["delta"].tolist()), expected)
            self.assertEqual(curves["gamma"].tolist(), [0.0] * 3)


class SeveralExpirationsTest(unittest.TestCase):
    def test_a_calendar_is_valued_by_model_and_says_so(self) -> None:
        calendar = [leg(-1, -1, 3100, 15.0, NEAR), leg(1, -1, 3100, 25.0, FAR)]
        facts = summary(calendar, SPOT, NOW)
        self.assertIn("valued at their volatility now", facts.max_profit.found)
        self.assertEqual(len(facts.break_evens), 2)
        self.assertGreater(facts.max_profit.value or 0, 0)
        self.assertGreaterEqual(facts.max_loss.value or 0, -10.0 - 1e-9)
        self.assertLess(facts.break_evens[0], 3100)
        self.assertGreater(facts.break_evens[1], 3100)


class AmericanLegTest(unittest.TestCase):
    def test_a_put_deep_in_the_money_is_worth_its_exercise(self) -> None:
        """At once, where a European one of the same terms is worth less."""
        put = PayoffLeg(1, -1, 120.0, FAR, 0.2, 100.0 * math.exp(0.05 * 24 / 365), 0.0, american=True, rate=0.05)
        grid = np.array([60.0, 100.0, 140.0])
        now = profit([put], grid, 100.0, NOW, NOW)
        self.assertAlmostEqual(now[0], 60.0, places=6)
        self.assertGreaterEqual(now[1], 20.0)
        self.assertLess(now[2], 0.2)


class MovingCurveTest(unittest.TestCase):
    """Volatilities that move along their expiration's curve with the price (sticky moneyness)."""

    slanted = curve(0.15, -0.02)

    def on_curve(self, strike: float, moving: bool) -> PayoffLeg:
        vol = float(self.slanted.vol(strike))
        return dataclasses.replace(leg(1, 1, strike, 0.0, vol=vol), curve=self.slanted if moving else None)

    def test_where_the_price_is_nothing_moves(self) -> None:
        at = np.array([SPOT])
        still, moving = (profit([self.on_curve(3160, m)], at, SPOT, NOW, NOW) for m in (False, True))
        self.assertAlmostEqual(still[0], moving[0], places=12)

    def test_a_price_scaled_with_its_strike_scales_the_value(self) -> None:
        """Sticky moneyness is homogeneous of degree one (Euler): V(cS, cK) = c V(S, K)."""
        c = 0.97
        here = profit([self.on_curve(3100.0, True)], np.array([SPOT]), SPOT, NOW, NOW)[0]
        there = profit([self.on_curve(3100.0 * c, True)], np.array([SPOT * c]), SPOT, NOW, NOW)[0]
        self.assertAlmostEqual(there, c * here, places=8)

    def test_with_a_skew_a_fall_lowers_the_volatility_of_a_fixed_strike(self) -> None:
        low = np.array([0.97 * SPOT])
        still, moving = (profit([self.on_curve(3100, m)], low, SPOT, NOW, NOW)[0] for m in (False, True))
        self.assertLess(moving, still, "the strike stands further up the curve, where it is lower")
        vol = float(self.slanted.vol(3100 / 0.97))
        by_hand = black_price(0.97 * SPOT, 3100.0, NEAR / YEAR_SECONDS, vol, 1.0, 1)
        self.assertAlmostEqual(moving, by_hand, places=8)

    def test_pulled_volatilities_come_on_top(self) -> None:
        pulled = shifted([self.on_curve(3160, True)], 0.05, {})
        at = np.array([0.99 * SPOT])
        vol = float(self.slanted.vol(3160 / 0.99)) + 0.05
        by_hand = black_price(0.99 * SPOT, 3160.0, NEAR / YEAR_SECONDS, vol, 1.0, 1)
        self.assertAlmostEqual(profit(pulled, at, SPOT, NOW, NOW)[0], by_hand, places=8)

    def test_greeks_are_those_of_the_volatility_there(self) -> None:
        at = np.array([0.98 * SPOT])
        vol = float(self.slanted.vol(3160 / 0.98))
        found = greek_curves([self.on_curve(3160, True)], at, SPOT, NOW, NOW)
        wanted = greek_curves([leg(1, 1, 3160, 0.0, vol=vol)], at, SPOT, NOW, NOW)
        for name in GREEKS:
            self.assertAlmostEqual(found[name][0], wanted[name][0], places=10)
