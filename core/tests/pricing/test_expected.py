"""Expected profit keeps its tails: against numerical integration of the same curve, and against the distribution the
demo's quotes were made from."""

from __future__ import annotations

import dataclasses
import datetime as dt
import math
import unittest
from collections.abc import Callable

import numpy as np

from strell_core.market.timeline import Timeline
from strell_core.pricing.black import black_price
from strell_core.pricing.payoff import PayoffLeg, leg_values, summary, underlying_leg
from strell_core.pricing.smile import Fit, Smile, butterfly_room, smile_at
from strell_core.scenario.generator import MK30, Scenario
from strell_core.scenario.smile import at_the_money_variance, skew, total_variance
from tests.demo import SHORT, short_history

SPOT, TICK = 3100.0, 0.05
NODES, WEIGHTS = np.polynomial.legendre.leggauss(32)
DAY = 86_400
NONE = Fit(0, 0, math.nan, math.nan, math.nan, math.nan, math.nan)
Plan = list[tuple[float, int, float, bool]]
"""Contracts, right (0: the underlying), strike in standard deviations from the forward, whether it settles later."""

STRUCTURES: dict[str, Plan] = {
    "short put": [(-1, -1, -1.0, False)], "far short put": [(-1, -1, -3.5, False)], "long call": [(1, 1, 0.3, False)],
    "strangle": [(-1, 1, 1.0, False), (-1, -1, -1.0, False)], "straddle": [(-1, 1, 0.0, False), (-1, -1, 0.0, False)],
    "far strangle": [(-1, 1, 2.5, False), (-1, -1, -2.5, False)],
    "condor": [(-1, 1, 1.0, False), (1, 1, 2.0, False), (-1, -1, -1.0, False), (1, -1, -2.0, False)],
    "put spread": [(-1, -1, -0.5, False), (1, -1, -1.5, False)], "butterfly": [(1, 1, -1, False), (-2, 1, 0, False), (1, 1, 1, False)],
    "ratio": [(1, -1, -0.5, False), (-2, -1, -1.5, False)], "risk reversal": [(1, 1, 1.0, False), (-1, -1, -1.0, False)],
    "covered call": [(1, 0, 0.0, False), (-1, 1, 0.7, False)], "collar": [(1, 0, 0.0, False), (-1, 1, 1.0, False), (1, -1, -1.0, False)],
    "calendar": [(-1, -1, 0.0, False), (1, -1, 0.0, True)], "double calendar": [(-1, 1, 1.0, False), (1, 1, 1.0, True), (-1, -1, -1.0, False), (1, -1, -1.0, True)],
}  # fmt: skip


def curves() -> list[Smile]:
    """Flat and slanted, steep to the left, to the right and both, hours to half a year."""
    out = []
    for days, vol in ((0.04, 0.12), (1, 0.45), (7, 0.15), (29, 0.2), (90, 0.3), (180, 0.5)):
        years = days / 365
        w = vol * vol * years
        root = math.sqrt(w)
        for b, rho, s in ((0.0, 0.0, 0.1), (0.5 * root, -0.7, 0.5 * root), (0.9 * root, -0.5, 0.15 * root), (0.7 * root, 0.6, 0.3 * root)):  # fmt: skip
            a = w - b * s  # at the money it is the volatility
            settlement = round(days * DAY)
            out.append(Smile(dt.date(2026, 1, 1), settlement, years, SPOT, 0.02, a, b, rho, 0.0, s, (SPOT, SPOT), NONE))
    out += [steepest(2, -0.9), steepest(29, -0.95), steepest(60, -0.2)]
    return [smile for smile in out if butterfly_room(smile, _wide(smile)) > -1e-9]


def steepest(days: int, rho: float) -> Smile:
    """Jumpy: the curve with the steepest wings of its kind that is free of arbitrage."""
    years = days / 365
    for b in np.arange(0.98, 0.0, -0.02).tolist():
        s = 0.15 * math.sqrt(years)
        smile = Smile(
            dt.date(2026, 1, 1), days * DAY, years, SPOT, 0.02, 0.02 * years, b, rho, 0.0, s, (SPOT, SPOT), NONE
        )
        if butterfly_room(smile, _wide(smile)) > -1e-9:
            return smile
    raise AssertionError("no curve of this kind is free of arbitrage")


def _wide(smile: Smile) -> np.ndarray:
    spread = math.sqrt(float(smile.total_variance(smile.forward)))
    return np.asarray(smile.forward * np.exp(np.linspace(-30, 30, 4001) * min(spread, 0.5)))


def legs_of(plan: Plan, smile: Smile) -> list[PayoffLeg]:
    spread = math.sqrt(float(smile.total_variance(smile.forward)))
    out = []
    for contracts, sign, place, later in plan:
        if sign == 0:
            out.append(underlying_leg(contracts, SPOT))
            continue
        strike = round(smile.forward * math.exp(place * spread), 1)
        settlement = smile.settlement_at + (14 * DAY if later else 0)
        vol = float(smile.vol(strike))
        out.append(PayoffLeg(contracts, sign, strike, settlement, vol, SPOT, 0.0, rate=0.02))
    return out


def integrated(legs: list[PayoffLeg], smile: Smile) -> float:
    """E[V] = V(0) + ∫ V'(s) (1 - F(s)) ds for what rises, V(F) less the other tail: here leg by leg, by Gauss-Legendre
    quadrature over ln s, the curve's distribution being all that is used of it."""

    def over(function: Callable[[np.ndarray], np.ndarray], low: float, high: float) -> float:
        edges = np.linspace(low, high, 41)
        half = np.diff(edges)[:, None] / 2
        return float(np.sum(half * WEIGHTS * function(edges[:-1, None] + half * (NODES + 1))))

    reach = 60 * max(0.02, math.sqrt(float(smile.total_variance(smile.forward))))
    total = 0.0
    for leg in legs:
        if leg.sign == 0:
            worth = smile.forward
        elif leg.settlement == smile.settlement_at and leg.sign < 0:
            at = math.log(leg.strike)
            worth = over(lambda x: smile.chance_below(np.exp(x)) * np.exp(x), at - reach, at)
        elif leg.settlement == smile.settlement_at:
            at = math.log(leg.strike)
            worth = over(lambda x: (1 - smile.chance_below(np.exp(x))) * np.exp(x), at, at + reach)
        else:
            # every value is what it is at the forward, and what it changes by to either side
            x = np.linspace(math.log(smile.forward) - reach, math.log(smile.forward) + reach, 120_001)
            s = np.exp(x)
            value = leg_values(leg, s, SPOT, 0, smile.settlement_at)
            f = smile.chance_below(0.5 * (s[1:] + s[:-1]))
            change = np.diff(value)
            middle = len(s) // 2
            worth = float(value[middle] + np.dot(change[middle:], 1 - f[middle:]) - np.dot(change[:middle], f[:middle]))
        total += leg.contracts * (worth - leg.opened)
    return total


class HoursTest(unittest.TestCase):
    def test_a_later_leg_beyond_a_nearest_expiration_hours_away_keeps_its_tails(self) -> None:
        """Eight standard deviations of an hour are nothing to a leg of two weeks."""
        smiles = [smile for smile in curves() if smile.years < 2 / 365]
        self.assertGreaterEqual(len(smiles), 5)
        for smile in smiles:
            for name in ("calendar", "double calendar"):
                legs = legs_of(STRUCTURES[name], smile)
                found = summary(legs, SPOT, 0, smile).expected
                assert found is not None
                self.assertAlmostEqual(found, integrated(legs, smile), delta=TICK / 20, msg=name)


class IntegrationTest(unittest.TestCase):
    tags = frozenset({"long"})

    def test_fifteen_structures_on_every_curve_are_what_integration_gives(self) -> None:
        smiles = curves()
        self.assertGreaterEqual(len(smiles), 20)
        for number, smile in enumerate(smiles):
            for name, plan in STRUCTURES.items():
                legs = legs_of(plan, smile)
                found = summary(legs, SPOT, 0, smile).expected
                assert found is not None
                self.assertAlmostEqual(found, integrated(legs, smile), delta=TICK / 2, msg=f"{name} on curve {number}")

    def test_a_month_s_short_put_with_a_heavy_left_wing_is_no_gift(self) -> None:
        """Sold for what the curve says it is worth today, its expected profit is the interest on the premium."""
        smile = steepest(29, -0.95)
        put = legs_of([(-1, -1, -2.0, False)], smile)[0]
        fair = black_price(SPOT, put.strike, smile.years, put.vol, math.exp(-smile.rate * smile.years), -1)
        sold = dataclasses.replace(put, opened=fair - 2 * TICK)
        expected = summary([sold], SPOT, 0, smile).expected
        self.assertAlmostEqual(expected or 0.0, -2 * TICK - fair * math.expm1(smile.rate * smile.years), delta=1e-6)


class GeneratorTest(unittest.TestCase):
    tags = frozenset({"long"})

    def test_the_sign_is_never_against_what_the_quotes_were_made_from(self) -> None:
        timeline, scenario = short_history(), Scenario(SHORT)
        told = 0
        for session in range(2, 90, 4):
            told += self.one(timeline, scenario, int(timeline.first[session + 1]) - 1)
        self.assertGreater(told, 200)

    def one(self, timeline: Timeline, scenario: Scenario, index: int) -> int:
        view, told = timeline.view(index), 0
        at = int(np.searchsorted(scenario.path.times, view.instant))
        variance = float(scenario.path.variance[at])
        for expiration in view.expirations[::3]:
            smile = smile_at(view, expiration)
            if smile is None or smile.years < 1 / 365:
                continue
            theta, rho = at_the_money_variance(smile.years, variance), skew(variance)
            spread = math.sqrt(theta)
            for plan in STRUCTURES.values():
                if any(later or sign == 0 for _, sign, _, later in plan):
                    continue
                legs, true = [], 0.0
                for contracts, sign, place, _ in plan:
                    chain = view.slice(expiration, "call" if sign > 0 else "put")
                    row = int(np.argmin(np.abs(chain.strikes - smile.forward * math.exp(place * spread))))
                    strike = float(chain.strikes[row])
                    price = float(chain.ask[row] if contracts > 0 else chain.bid[row]) * TICK
                    legs.append(PayoffLeg(contracts, sign, strike, smile.settlement_at, 0.2, smile.forward, price, rate=MK30.rate))  # fmt: skip
                    vol = math.sqrt(total_variance(math.log(strike / smile.forward), theta, rho) / smile.years)
                    true += contracts * (black_price(smile.forward, strike, smile.years, vol, 1.0, sign) - price)
                found = summary(legs, view.spot / 100, view.instant, smile).expected
                assert found is not None
                if abs(true) > 2 * TICK and min(leg.opened for leg in legs) >= 0:
                    told += 1
                    self.assertGreater(
                        found * true,
                        0,
                        f"{expiration} {[(leg.contracts, leg.strike) for leg in legs]}: {found} for {true}",
                    )
        return told
