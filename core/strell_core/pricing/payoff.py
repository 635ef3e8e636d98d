"""Payoff of a structure: now, on any date, at its nearest expiration.

A leg alive at the chosen instant is valued by Black-76 with its own implied volatility, an American one with
its right to early exercise; the forward follows the underlying in proportion, its carry shrinking with the time left.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from strell_core.pricing import american
from strell_core.pricing.black import FloatArray, normal_cdf, price_many, years_between


@dataclass(frozen=True)
class PayoffLeg:
    """One leg. ``contracts`` is signed, prices are in points, ``vol`` a year (NaN: not known)."""

    contracts: int
    sign: int
    strike: float
    settlement: int
    vol: float
    forward: float
    opened: float
    american: bool = False
    rate: float = 0.0
    """Interest a year, for early exercise only."""


@dataclass(frozen=True)
class Extreme:
    """Largest profit or loss at the nearest expiration, in points times contracts."""

    value: float | None
    """``None``: unbounded."""
    found: str


@dataclass(frozen=True)
class PayoffSummary:
    break_evens: tuple[float, ...]
    max_profit: Extreme
    max_loss: Extreme
    chance_of_profit: float | None


def leg_values(leg: PayoffLeg, spot: FloatArray, base_spot: float, base: int, at: int, vol_shift: float) -> FloatArray:
    """Value of one unit of ``leg`` at instant ``at`` for each underlying price, points, ``(n,)``."""
    if at >= leg.settlement:
        return np.maximum(0.0, leg.sign * (spot - leg.strike))
    left, whole = years_between(at, leg.settlement), years_between(base, leg.settlement)
    rate_of_carry = math.log(leg.forward / base_spot) / whole if whole > 0 else 0.0
    n = len(spot)
    vol = max(1e-4, (leg.vol if math.isfinite(leg.vol) else 0.0) + vol_shift)
    if leg.american:
        prices = np.maximum(spot, 1e-6)
        return np.asarray(american.values(prices, float(leg.strike), left, vol, leg.rate, rate_of_carry, leg.sign))
    return np.asarray(
        price_many(
            spot * math.exp(rate_of_carry * left), np.full(n, leg.strike), np.full(n, left),
            np.full(n, vol), 0.0, np.full(n, leg.sign, np.int64),
        )
    )  # fmt: skip


def profit(
    legs: Sequence[PayoffLeg], spot: FloatArray, base_spot: float, base: int, at: int, vol_shift: float = 0.0
) -> FloatArray:
    """P/L against the opening prices for each underlying price, points times contracts, ``(n,)``."""
    total = np.zeros(len(spot))
    for leg in legs:
        total += leg.contracts * (leg_values(leg, spot, base_spot, base, at, vol_shift) - leg.opened)
    return total


def spot_grid(legs: Sequence[PayoffLeg], base_spot: float, points: int = 161) -> FloatArray:
    """Underlying prices worth drawing: around spot and strikes, every strike on the grid itself."""
    strikes = [leg.strike for leg in legs]
    low, high = min([*strikes, base_spot]), max([*strikes, base_spot])
    margin = max(0.35 * (high - low), 0.03 * base_spot)
    grid = np.linspace(low - margin, high + margin, points)
    return np.unique(np.concatenate([grid, np.array([*strikes, base_spot])]))


def summary(legs: Sequence[PayoffLeg], base_spot: float, base: int) -> PayoffSummary:
    """Break-evens, extremes and chance of profit at the nearest expiration.

    With one expiration the payoff is a chain of straight pieces between strikes and everything is
    exact. With several, later legs are valued by model on a fine grid, and the result says so.
    The chance uses a lognormal distribution with the volatility of the leg nearest to the money.
    """
    nearest = min(leg.settlement for leg in legs)
    exact = all(leg.settlement == nearest for leg in legs)
    strikes = sorted({leg.strike for leg in legs})
    far = max(strikes[-1], base_spot) * 2
    if exact:
        grid = np.array(sorted({0.0, *strikes, far}))
        how = "exact: straight pieces between the strikes"
    else:
        grid = np.unique(np.concatenate([np.linspace(0.5 * base_spot, 1.6 * base_spot, 4001), np.array(strikes)]))
        how = "on a grid from 50 % to 160 % of the price, later legs valued at today's volatility"
    value = profit(legs, grid, base_spot, base, nearest)
    crossings = []
    for i in range(len(grid) - 1):
        a, b = float(value[i]), float(value[i + 1])
        if a == 0.0:
            crossings.append(float(grid[i]))
        elif a * b < 0:
            crossings.append(float(grid[i] - a * (grid[i + 1] - grid[i]) / (b - a)))
    rising = sum(leg.contracts for leg in legs if leg.sign > 0)
    top = Extreme(None if rising > 0 else float(value.max()), how)
    bottom = Extreme(None if rising < 0 else float(value.min()), how)
    return PayoffSummary(tuple(crossings), top, bottom, _chance(legs, crossings, grid, value, base_spot, base, nearest))


def _chance(
    legs: Sequence[PayoffLeg], crossings: list[float], grid: FloatArray, value: FloatArray,
    base_spot: float, base: int, nearest: int,
) -> float | None:  # fmt: skip
    known = [leg for leg in legs if math.isfinite(leg.vol) and leg.vol > 0]
    years = years_between(base, nearest)
    if not known or years <= 0:
        return None
    centre = min(known, key=lambda leg: abs(leg.strike - base_spot))
    spread = centre.vol * math.sqrt(years)

    def below(price: float) -> float:
        if price <= 0:
            return 0.0
        return float(normal_cdf(math.log(price / centre.forward) / spread + 0.5 * spread))

    edges = [0.0, *crossings, math.inf]
    total = 0.0
    for low, high in zip(edges, edges[1:], strict=False):
        middle = 0.5 * (low + high) if math.isfinite(high) else max(low * 1.5, float(grid[-1]))
        if float(np.interp(middle, grid, value)) > 0:
            total += (1.0 if math.isinf(high) else below(high)) - below(low)
    return total
