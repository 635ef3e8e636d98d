"""Payoff of a structure: now, on any date, at its nearest expiration; its Greeks along the price; what may come.

A leg alive at the chosen instant is valued by Black-76 with its own implied volatility, an American one with
its right to early exercise; the forward follows the underlying in proportion, its carry shrinking with the time left.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from strell_core.pricing import american
from strell_core.pricing.black import (
    GREEKS,
    FloatArray,
    black_price,
    greeks_many,
    normal_cdf,
    price_many,
    years_between,
)
from strell_core.pricing.smile import Smile


@dataclass(frozen=True)
class PayoffLeg:
    """One leg. ``contracts`` is signed, prices are in points, ``vol`` a year (NaN: not known).

    ``sign`` is 1 for a call, -1 for a put and 0 for the underlying itself, of which one contract is as many
    units as one option delivers; strike, settlement and volatility mean nothing there.
    """

    contracts: float
    sign: int
    strike: float
    settlement: int
    vol: float
    forward: float
    opened: float
    american: bool = False
    rate: float = 0.0
    """Interest a year, continuously compounded."""
    dividends: tuple[tuple[int, float], ...] = ()
    """When the price loses each dividend before the settlement (epoch seconds), and points."""
    curve: Smile | None = None
    """With it the volatility moves along its expiration's curve as the price moves, a strike keeping the place it
    has by moneyness K/F (*sticky moneyness*, common practice); without it the leg keeps its own (*sticky strike*)."""


def underlying_leg(contracts: float, opened: float) -> PayoffLeg:
    """The underlying itself, bought (or sold: negative) at ``opened``."""
    return PayoffLeg(contracts, 0, math.nan, 0, math.nan, math.nan, opened)


@dataclass(frozen=True)
class Extreme:
    """Largest profit or loss at the nearest expiration, in points times contracts."""

    value: float | None
    """``None``: unbounded."""
    found: str


@dataclass(frozen=True)
class PayoffSummary:
    """At the nearest expiration. ``expected`` is in points times contracts, ``None`` without a curve."""

    break_evens: tuple[float, ...]
    max_profit: Extreme
    max_loss: Extreme
    chance_of_profit: float | None
    expected: float | None
    chance_from: str
    """Which distribution the chance and the expected value rest on."""


def shifted(legs: Sequence[PayoffLeg], overall: float, by_settlement: Mapping[int, float]) -> list[PayoffLeg]:
    """The legs with their volatilities moved by ``overall`` and by what is given for their settlement."""
    return [
        leg if leg.sign == 0 else replace(leg, vol=max(1e-4, leg.vol + overall + by_settlement.get(leg.settlement, 0.0)))
        for leg in legs
    ]  # fmt: skip


def nearest_settlement(legs: Sequence[PayoffLeg], base: int) -> int:
    """When the first option settles; ``base`` for the underlying alone."""
    return min((leg.settlement for leg in legs if leg.sign != 0), default=base)


def _to_come(leg: PayoffLeg, at: int) -> tuple[FloatArray, FloatArray]:
    """Years until each dividend after ``at``, and points."""
    ahead = [(years_between(at, when), amount) for when, amount in leg.dividends if when > at]
    return np.array([when for when, _ in ahead], float), np.array([amount for _, amount in ahead], float)


def _carry(leg: PayoffLeg, base_spot: float, base: int) -> float:
    """Carry of the price without its dividends to come that leads to the forward."""
    whole = years_between(base, leg.settlement)
    rest = base_spot - american.worth_of(leg.rate, *_to_come(leg, base))
    return math.log(leg.forward / rest) / whole if whole > 0 and rest > 0 else 0.0


def _vols(leg: PayoffLeg, spot: FloatArray, base_spot: float) -> FloatArray:
    """Volatility of a leg at each underlying price, ``(n,)``: its own, or moved along its curve by as much as the
    curve differs between where its strike stands then and where it stands now."""
    own = np.full(len(spot), leg.vol if math.isfinite(leg.vol) else 0.0)
    if leg.curve is not None:
        there = leg.strike * base_spot / np.maximum(spot, 1e-6)
        low, high = (leg.curve.forward * bound for bound in (0.2, 5.0))
        own += leg.curve.vol(np.clip(there, low, high)) - leg.curve.vol(leg.strike)
    return np.maximum(1e-4, own)


def leg_values(leg: PayoffLeg, spot: FloatArray, base_spot: float, base: int, at: int) -> FloatArray:
    """Value of one unit of ``leg`` at instant ``at`` for each underlying price, points, ``(n,)``."""
    if leg.sign == 0:
        return spot
    if at >= leg.settlement:
        return np.maximum(0.0, leg.sign * (spot - leg.strike))
    left = years_between(at, leg.settlement)
    carry = _carry(leg, base_spot, base)
    n = len(spot)
    prices = np.maximum(spot, 1e-6)
    vols = _vols(leg, prices, base_spot)
    when, paid = _to_come(leg, at)
    if leg.american:
        return np.asarray(american.values(prices, float(leg.strike), left, vols, leg.rate, carry, when, paid, leg.sign))
    prices = np.maximum(prices - american.worth_of(leg.rate, when, paid), 1e-6)
    return np.asarray(
        price_many(
            prices * math.exp(carry * left), np.full(n, leg.strike), np.full(n, left),
            vols, leg.rate, np.full(n, leg.sign, np.int64),
        )
    )  # fmt: skip


def profit(legs: Sequence[PayoffLeg], spot: FloatArray, base_spot: float, base: int, at: int) -> FloatArray:
    """P/L against the opening prices for each underlying price, points times contracts, ``(n,)``."""
    total = np.zeros(len(spot))
    for leg in legs:
        total += leg.contracts * (leg_values(leg, spot, base_spot, base, at) - leg.opened)
    return total


def greek_curves(
    legs: Sequence[PayoffLeg], spot: FloatArray, base_spot: float, base: int, at: int
) -> dict[str, FloatArray]:
    """Every Greek of the structure at instant ``at`` for each underlying price, per point times contracts, ``(n,)``.

    Conventions of :mod:`black`; those of American options per point of the underlying, on the grid for whole chains.
    A volatility that moves with the price is the one at that price: no Greek counts the move itself.
    """
    total = np.zeros((len(GREEKS), len(spot)))
    prices = np.maximum(spot, 1e-6)
    n = len(prices)
    for leg in legs:
        if leg.sign == 0:
            total[0] += leg.contracts
            continue
        left = years_between(at, leg.settlement)
        if left <= 0:
            total[0] += leg.contracts * leg.sign * (leg.sign * (prices - leg.strike) > 0)
            continue
        growth, vols = math.exp(_carry(leg, base_spot, base) * left), _vols(leg, prices, base_spot)
        when, paid = _to_come(leg, at)
        forwards = np.maximum(prices - american.worth_of(leg.rate, when, paid), 1e-6) * growth
        if leg.american:
            own = np.array(
                [
                    american.greeks(p, f, float(leg.strike), left, vol, leg.rate, when, paid, leg.sign, *american.BULK)
                    for p, f, vol in zip(prices.tolist(), forwards.tolist(), vols.tolist(), strict=True)
                ]
            ).T
        else:
            own = greeks_many(
                forwards, np.full(n, float(leg.strike)), np.full(n, left), vols, leg.rate,
                np.full(n, leg.sign, np.int64),
            )  # fmt: skip
        total += leg.contracts * own
    return dict(zip(GREEKS, total, strict=True))


def spot_grid(legs: Sequence[PayoffLeg], base_spot: float, points: int = 161) -> FloatArray:
    """Underlying prices worth drawing: around spot and strikes, every strike on the grid itself."""
    strikes = [leg.strike for leg in legs if leg.sign != 0]
    low, high = min([*strikes, base_spot]), max([*strikes, base_spot])
    margin = max(0.35 * (high - low), 0.03 * base_spot)
    grid = np.linspace(max(0.0, low - margin), high + margin, points)
    return np.unique(np.concatenate([grid, np.array([*strikes, base_spot])]))


def crossings(grid: FloatArray, value: FloatArray) -> list[float]:
    """Prices at which ``value`` passes zero, straight between the points of ``grid``."""
    found = []
    for i in range(len(grid) - 1):
        a, b = float(value[i]), float(value[i + 1])
        if a == 0.0:
            found.append(float(grid[i]))
        elif a * b < 0:
            found.append(float(grid[i] - a * (grid[i + 1] - grid[i]) / (b - a)))
    return found


_EXACT = "exact: straight pieces between the strikes"
_ON_A_GRID = "on a grid from 1 % to 300 % of the price, later legs valued at their volatility now"


def summary(
    legs: Sequence[PayoffLeg], base_spot: float, base: int, smile: Smile | None = None, made: float = 0.0
) -> PayoffSummary:
    """Break-evens, extremes, chance of profit and expected value at the nearest expiration.

    With one expiration the payoff is a chain of straight pieces between strikes and everything is
    exact. With several, later legs are valued by model on a fine grid, and the result says so.
    ``smile`` is the curve of the nearest expiration, whose implied distribution is used; without it a
    lognormal distribution with the volatility of the leg nearest to the money gives the chance alone.
    ``made`` (points times contracts) is P/L that is certain already.
    """
    nearest = nearest_settlement(legs, base)
    options = [leg for leg in legs if leg.sign != 0]
    exact = all(leg.settlement == nearest for leg in options)
    strikes = sorted({leg.strike for leg in options})
    far = max([*strikes, base_spot]) * 2
    if exact:
        grid = np.array(sorted({0.0, *strikes, far}))
    else:
        near = np.linspace(0.5 * base_spot, 1.6 * base_spot, 3001)
        wide = np.concatenate([np.linspace(0.01, 0.5, 50), np.linspace(1.6, 3.0, 60)]) * base_spot
        grid = np.unique(np.concatenate([near, wide, np.array(strikes)]))
    how = _EXACT if exact else _ON_A_GRID
    value = profit(legs, grid, base_spot, base, nearest) + made
    edges = crossings(grid, value)
    rising = sum(leg.contracts for leg in legs if leg.sign >= 0)
    if exact and rising * value[-1] < 0:
        # the last straight piece still has a zero beyond the grid
        edges.append(far - float(value[-1]) / rising)
    top = Extreme(None if rising > 1e-9 else float(value.max()), how)
    bottom = Extreme(None if rising < -1e-9 else float(value.min()), how)
    if smile is not None:
        chance, expected = _outcome(legs, base_spot, base, nearest, smile, edges, made)
        return PayoffSummary(tuple(edges), top, bottom, chance, expected, "smile")
    chance_only = _lognormal_chance(legs, base_spot, base, nearest, edges, made)
    return PayoffSummary(tuple(edges), top, bottom, chance_only, None, "lognormal")


def _outcome(
    legs: Sequence[PayoffLeg], base_spot: float, base: int, nearest: int, smile: Smile, edges: list[float], made: float
) -> tuple[float, float]:
    """Chance of profit and expected P/L at the nearest expiration under the distribution the curve implies.

    What a payoff at that expiration is expected to be is the curve's own undiscounted price (Black 1976), tails
    included: the underlying's is the forward, an option's the price at its strike. A later leg is a payoff of that
    kind, the one it nears far in and out of the money, and a bounded rest. Only that rest, and the chance, are added
    up over pieces of the price: 2 000 over eight standard deviations to either side, 800 more as far as a later leg
    has time value, cut at every strike and break-even, each with its probability by the curve and the value in its middle, the outermost as at their edge.
    """
    spread = math.sqrt(float(smile.total_variance(smile.forward)))
    inner = smile.forward * np.exp(np.linspace(-8.0, 8.0, 2001) * spread)
    own = [leg.vol * math.sqrt(years_between(nearest, leg.settlement)) for leg in legs if leg.settlement > nearest]
    if own and math.isfinite(max(own)):
        # over hours the price may not come to where a later leg is as good as settled, but its tails do
        wide = smile.forward * np.exp(np.linspace(-8.0, 8.0, 801) * math.hypot(spread, max(own)))
        inner = np.unique(np.concatenate([inner, wide]))
    later = [(leg, *_nears(leg, base_spot, base, nearest)) for leg in legs if leg.sign and leg.settlement > nearest]
    kinks = [leg.strike for leg in legs if leg.sign != 0] + [strike for _, _, strike in later] + edges
    cuts = np.unique(np.concatenate([inner, np.array([k for k in kinks if inner[0] < k < inner[-1]])]))
    below = np.maximum.accumulate(smile.chance_below(cuts))
    mass = np.diff(below, prepend=0.0, append=1.0)
    middles = np.concatenate([[cuts[0]], 0.5 * (cuts[1:] + cuts[:-1]), [cuts[-1]]])
    value = profit(legs, middles, base_spot, base, nearest) + made
    expected = made - sum(leg.contracts * leg.opened for leg in legs)
    for leg in legs:
        if leg.sign == 0:
            expected += leg.contracts * smile.forward
        elif leg.settlement <= nearest:
            expected += leg.contracts * undiscounted(smile, leg.strike, leg.sign)
    for leg, share, strike in later:
        rest = leg_values(leg, middles, base_spot, base, nearest)
        rest = rest - share * np.maximum(0.0, leg.sign * (middles - strike))
        expected += leg.contracts * (share * undiscounted(smile, strike, leg.sign) + float(np.dot(mass, rest)))
    return float(mass[value > 0].sum()), float(expected)


def undiscounted(smile: Smile, strike: float, sign: int) -> float:
    """Expected payoff of an option of the curve's expiration: its price without discount (F. Black, "The pricing of
    commodity contracts", Journal of Financial Economics 3 (1976)), points."""
    if strike <= 0:
        return max(0.0, sign * (smile.forward - strike))
    return float(black_price(smile.forward, strike, smile.years, float(smile.vol(strike)), 1.0, sign))


def _nears(leg: PayoffLeg, base_spot: float, base: int, at: int) -> tuple[float, float]:
    """The payoff that a later leg's value at an instant nears far in and out of the money: so much of one with such a
    strike."""
    if leg.american:
        return 1.0, leg.strike
    left, carry = years_between(at, leg.settlement), _carry(leg, base_spot, base)
    to_come = american.worth_of(leg.rate, *_to_come(leg, at))
    return math.exp((carry - leg.rate) * left), leg.strike * math.exp(-carry * left) + to_come


def _lognormal_chance(
    legs: Sequence[PayoffLeg], base_spot: float, base: int, nearest: int, edges: list[float], made: float
) -> float | None:
    known = [leg for leg in legs if leg.sign != 0 and math.isfinite(leg.vol) and leg.vol > 0]
    years = years_between(base, nearest)
    if not known or years <= 0:
        return None
    centre = min(known, key=lambda leg: abs(leg.strike - base_spot))
    spread = centre.vol * math.sqrt(years)

    def below(price: float) -> float:
        if price <= 0:
            return 0.0
        return float(normal_cdf(math.log(price / centre.forward) / spread + 0.5 * spread))

    bounds = [0.0, *edges, math.inf]
    total = 0.0
    for low, high in zip(bounds, bounds[1:], strict=False):
        middle = 0.5 * (low + high) if math.isfinite(high) else 2.0 * max(low, base_spot)
        if float(profit(legs, np.array([middle]), base_spot, base, nearest)[0]) + made > 0:
            total += (1.0 if math.isinf(high) else below(high)) - below(low)
    return total
