"""Curves of volatility: no arbitrage, quotes met, the generator's own volatility found again."""

from __future__ import annotations

import math
import unittest
from functools import cache

import numpy as np
import QuantLib as ql

from strell_core.formats import cubes
from strell_core.market.timeline import Timeline
from strell_core.market.view import ExpirationSlice
from strell_core.pricing.black import YEAR_SECONDS, black_price, normal_cdf
from strell_core.pricing.smile import (
    Smile,
    butterfly_room,
    calendar_room,
    constant_maturity,
    fit_smile,
    reach,
    smiles,
)
from strell_core.scenario.generator import DIVIDEND_YIELD, Scenario, Settings
from strell_core.scenario.smile import at_the_money_variance, skew, total_variance

RATE, QUANTUM = 0.021, 0.05
SCENARIO = Scenario(Settings(sessions=300, intraday=2))


@cache
def history() -> Timeline:
    """Five closing sessions, calm and wild, and one of five minutes."""
    chosen = (40, 101, 106, 180, 260, 299)
    return cubes.in_memory([SCENARIO.chain(i) for i in chosen], SCENARIO.underlying, SCENARIO.calendar, "smiles")


@cache
def curves() -> list[tuple[int, list[Smile]]]:
    timeline = history()
    instants = [*range(5), int(timeline.first[5]), int(timeline.first[5]) + 60, len(timeline.times) - 1]
    return [(i, smiles(timeline.view(i))) for i in instants]


class GeneratedChainsTest(unittest.TestCase):
    def test_nearly_every_quote_is_met(self) -> None:
        total = sum(smile.fit.quotes for _, found in curves() for smile in found)
        inside = sum(smile.fit.inside for _, found in curves() for smile in found)
        self.assertGreater(total, 15_000)
        self.assertGreaterEqual(inside / total, 0.98)

    def test_no_arbitrage_on_a_finer_grid(self) -> None:
        """By the prices themselves: calls fall with the strike, ever more slowly, and grow with the term."""
        for _, found in curves():
            for before, smile in zip([None, *found], found, strict=False):
                strikes = reach(smile, 501)
                even = np.linspace(strikes[0], strikes[-1], 801)
                growth = math.exp(smile.rate * smile.years)
                calls = smile.values(even, np.ones(len(even)), 0.0, False) * growth
                self.assertTrue((np.diff(calls) <= 1e-9).all())
                self.assertGreaterEqual(np.diff(calls, 2).min(), -1e-7 * smile.forward)
                self.assertGreaterEqual(butterfly_room(smile, strikes), 0.0)
                if before is not None:
                    self.assertGreaterEqual(calendar_room(before, smile, strikes / smile.forward), -1e-9)

    def test_the_generators_volatility_is_found_again(self) -> None:
        """Within 0.3 points between the 5 and 95 delta strikes."""
        timeline, path = history(), SCENARIO.path
        worst = 0.0
        for index, found in curves():
            at = int(np.searchsorted(path.times, timeline.times[index]))
            variance = float(path.variance[at])
            for smile in found:
                strikes = np.linspace(smile.strike_of_delta(0.05, -1), smile.strike_of_delta(0.05, 1), 31)
                forward = 0.01 * float(timeline.spot[index]) * math.exp((RATE - DIVIDEND_YIELD) * smile.years)
                theta, rho = at_the_money_variance(smile.years, variance), skew(variance)
                true = np.sqrt(
                    [total_variance(math.log(k / forward), theta, rho) / smile.years for k in strikes.tolist()]
                )
                worst = max(worst, float(np.abs(smile.vol(strikes) - true).max()))
        self.assertLess(worst, 0.003)

    def test_a_constant_maturity_lies_on_the_generators_term_structure(self) -> None:
        timeline, path = history(), SCENARIO.path
        for index, found in curves():
            variance = float(path.variance[int(np.searchsorted(path.times, timeline.times[index]))])
            for days in (20, 60):
                true = math.sqrt(at_the_money_variance(days / 365, variance) / (days / 365))
                self.assertAlmostEqual(constant_maturity(found, days) or 0, true, delta=0.003)
            self.assertIsNone(constant_maturity(found, 2_000))
            self.assertIsNone(constant_maturity(found[3:], 1))


STRIKES = np.arange(2700.0, 3510.0, 10.0)
DAYS = 30
FORWARD = 3100.0


def slices(vol: float, damage: dict[float, int] | None = None, keep: slice = slice(None)) -> list[ExpirationSlice]:
    """Calls and puts of one flat volatility; ``damage`` moves the put of a strike by quanta."""
    years, settlement = DAYS / 365, DAYS * 86_400
    discount = math.exp(-RATE * years)
    strikes, out = STRIKES[keep], []
    for right, sign in (("call", 1), ("put", -1)):
        fair = np.array([black_price(FORWARD, k, years, vol, discount, sign) for k in strikes]) / QUANTUM
        for strike, by in (damage or {}).items():
            if right == "put":
                fair[strikes == strike] += by
        bid, ask = np.maximum(np.floor(fair) - 1, 0).astype(np.int32), np.ceil(fair).astype(np.int32) + 1
        iv = np.where(bid > 0, round(vol * 10_000), 0).astype(np.uint16)
        if damage and right == "put":
            for strike, by in damage.items():
                iv[strikes == strike] += by * 10
        zeros = np.zeros(len(strikes), np.int32)
        out.append(
            ExpirationSlice(
                SCENARIO.dates[0], right, settlement, FORWARD, strikes, bid, ask, iv, zeros.astype(np.int16), zeros
            )
        )
    return out


def flat(vol: float, **options: object) -> Smile | None:
    return fit_smile(*slices(vol, **options), 0, 3095.0, RATE, QUANTUM)  # type: ignore[arg-type]


class OneCurveTest(unittest.TestCase):
    def test_a_flat_market_gives_a_flat_curve(self) -> None:
        smile = flat(0.18)
        assert smile is not None
        np.testing.assert_allclose(smile.vol(np.linspace(2800, 3400, 25)), 0.18, atol=5e-4)
        self.assertEqual(smile.fit.inside, smile.fit.quotes)

    def test_one_bad_quote_does_not_bend_it(self) -> None:
        smile = flat(0.18, damage={3050.0: 120})
        assert smile is not None
        self.assertAlmostEqual(float(smile.vol(3050.0)), 0.18, delta=0.002)
        self.assertEqual(smile.fit.worst_strike, 3050.0)
        self.assertGreater(smile.fit.worst, 5.0)
        self.assertLess(smile.fit.inside, smile.fit.quotes)

    def test_too_few_quotes_give_none(self) -> None:
        self.assertIsNone(flat(0.18, keep=slice(38, 42)))

    def test_chances_are_those_of_a_lognormal_price(self) -> None:
        smile = flat(0.18)
        assert smile is not None
        spread = 0.18 * math.sqrt(DAYS / 365)
        for level in (2900.0, 3100.0, 3250.0):
            wanted = normal_cdf(math.log(level / FORWARD) / spread + spread / 2)
            self.assertAlmostEqual(float(smile.chance_below(level)), wanted, delta=0.003)
            self.assertAlmostEqual(
                smile.chance_in_the_money(level, 1) + smile.chance_in_the_money(level, -1), 1.0, places=12
            )

    def test_thirty_delta_ends_in_the_money_about_thirty_times_in_a_hundred(self) -> None:
        """Common practice."""
        smile = flat(0.18)
        assert smile is not None
        for sign in (1, -1):
            strike = smile.strike_of_delta(0.30, sign)
            self.assertAlmostEqual(smile.chance_in_the_money(strike, sign), 0.30, delta=0.025)


class TouchTest(unittest.TestCase):
    def test_against_quantlib(self) -> None:
        """Reference: QuantLib's American digital option paid at expiry, undiscounted."""
        smile = flat(0.18)
        assert smile is not None
        today = ql.Date(1, 1, 2026)
        ql.Settings.instance().evaluationDate = today
        spot, count = 3095.0, ql.Actual365Fixed()
        carry = math.log(FORWARD / spot) / smile.years
        for level in (2850.0, 3000.0, 3090.0, 3150.0, 3350.0):
            process = ql.BlackScholesMertonProcess(
                ql.QuoteHandle(ql.SimpleQuote(spot)),
                ql.YieldTermStructureHandle(ql.FlatForward(today, RATE - carry, count)),
                ql.YieldTermStructureHandle(ql.FlatForward(today, RATE, count)),
                ql.BlackVolTermStructureHandle(
                    ql.BlackConstantVol(today, ql.NullCalendar(), float(smile.vol(level)), count)
                ),
            )
            kind = ql.Option.Call if level > spot else ql.Option.Put
            option = ql.VanillaOption(
                ql.CashOrNothingPayoff(kind, level, 1.0), ql.AmericanExercise(today, today + DAYS, True)
            )
            option.setPricingEngine(ql.AnalyticDigitalAmericanEngine(process))
            wanted = option.NPV() * math.exp(RATE * DAYS / 365)
            self.assertAlmostEqual(smile.chance_of_touch(level, spot), wanted, delta=1e-9, msg=str(level))

    def test_touching_is_about_twice_as_likely_as_ending_there(self) -> None:
        """Common practice, for levels out of the money."""
        smile = flat(0.18)
        assert smile is not None
        self.assertAlmostEqual(
            smile.chance_of_touch(3250.0, 3095.0) / smile.chance_in_the_money(3250.0, 1), 2.0, delta=0.15
        )
        self.assertEqual(smile.chance_of_touch(3095.0, 3095.0), 1.0)


class AmericanTest(unittest.TestCase):
    def test_values_carry_the_right_to_exercise(self) -> None:
        smile = flat(0.18)
        assert smile is not None
        strikes = np.array([3000.0, 3100.0, 3400.0])
        put = np.full(3, -1)
        american, european = (smile.values(strikes, put, 3095.0, right) for right in (True, False))
        self.assertTrue((american >= european - 1e-9).all())
        self.assertGreater(american[2], european[2])
        self.assertEqual(YEAR_SECONDS, 31_536_000.0)
