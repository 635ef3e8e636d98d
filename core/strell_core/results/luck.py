"""How much of a result chance alone would give: variants tried, the order of the trades, the best one of them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.special import ndtr, ndtri

from strell_core.results.bootstrap import block_length, drawn
from strell_core.results.metrics import LEAST_SESSIONS, LEAST_TRADES, SESSIONS_A_YEAR, Floats

ORDERS = 2000
"""Orders of the trades that are tried."""
BAND_POINTS = 60
EULER = 0.5772156649015329


def probability_above(ratio: float, benchmark: float, n: int, skew: float, kurtosis: float) -> float:
    """How likely the true Sharpe ratio is above ``benchmark``, both of a session: probabilistic Sharpe ratio.

    Φ((s - s*) √(n - 1) ÷ √(1 - g₃ s + (g₄ - 1) s² ÷ 4)) (D. Bailey and M. López de Prado, "The Sharpe ratio efficient
    frontier", 2012), from ``n`` sessions with skew g₃ and kurtosis g₄ (3 of a normal record).
    """
    width = 1.0 - skew * ratio + (kurtosis - 1.0) / 4.0 * ratio**2
    return float(ndtr((ratio - benchmark) * math.sqrt(n - 1) / math.sqrt(max(width, 1e-12))))


def beyond(daily: Floats, benchmark: float = 0.0) -> float | None:
    """:func:`probability_above` of a record of daily returns; ``None`` of fewer than 60 sessions, of one in which a
    return is no number, and of one that does not move."""
    n = len(daily)
    if n < LEAST_SESSIONS or np.isnan(daily).any() or (spread := float(daily.std(ddof=1))) <= 0:
        return None
    centred = daily - daily.mean()
    even = float(np.mean(centred**2))
    skew, kurtosis = float(np.mean(centred**3)) / even**1.5, float(np.mean(centred**4)) / even**2
    return probability_above(float(daily.mean()) / spread, benchmark, n, skew, kurtosis)


def best_by_chance(ratios: Sequence[float]) -> float:
    """Sharpe ratio that the best of so many variants without an edge is expected to reach, in the unit of ``ratios``.

    √V ((1 - γ) Φ⁻¹(1 - 1/N) + γ Φ⁻¹(1 - 1/(N e))), V the variance of what was tried, γ Euler's constant (D. Bailey and
    M. López de Prado, "The deflated Sharpe ratio", 2014); 0 for a single one.
    """
    count = len(ratios)
    if count < 2:
        return 0.0
    spread = float(np.std(np.asarray(ratios), ddof=1))
    top = (1 - EULER) * ndtri(1 - 1 / count) + EULER * ndtri(1 - 1 / (count * math.e))
    return float(spread * top)


class Searched(NamedTuple):
    """What a search through variants makes of one result."""

    variants: int
    best_by_chance: float
    """Sharpe ratio a year that the best of them is expected to reach without an edge."""
    deflated: float | None
    """How likely the true Sharpe ratio is above that: deflated Sharpe ratio."""
    chance: float | None
    """Share of searches of so many independent variants without an edge whose best is at least this good."""


def searched(daily: Floats, tried: Sequence[float]) -> Searched:
    """``tried``: Sharpe ratios a year of all variants, this one among them.

    ``chance`` is 1 - p^N (Z. Šidák, 1967), p how likely the true ratio is above nothing. Variants that resemble each
    other count like others, which errs on the careful side.
    """
    count = max(1, len(tried))
    expected = best_by_chance(tried)
    above_zero = beyond(daily)
    chance = None if above_zero is None else 1.0 - above_zero**count
    return Searched(count, expected, beyond(daily, expected / math.sqrt(SESSIONS_A_YEAR)), chance)


class Alike(NamedTuple):
    """What a search makes of its best result where variants resemble each other."""

    chance: float
    """Share of searches through variants that move together as these do, without an edge, whose best is at least this good."""
    independent: float
    """So many independent ones have as good a best one, half of the time."""


def alike(daily: Floats, seed: int = 0) -> Alike | None:
    """Of daily returns ``(variants, sessions)``, from the best Sharpe ratio of records drawn again in blocks, the same days for
    all variants, each less its own mean.

    Source: H. White, "A reality check for data snooping", Econometrica 68 (2000), of ratios as P. Hansen, "A test for superior
    predictive ability" (2005), divides by what a variant varies. ``independent``: N of ``Φ(m √n)^N = 1/2``, m the median of these
    best ratios; at most as many as there are. ``None`` of fewer than two variants or 60 sessions, and where a return is no number.
    """
    count, n = daily.shape
    if count < 2 or n < LEAST_SESSIONS or np.isnan(daily).any():
        return None
    mean, spread = daily.mean(axis=1), daily.std(axis=1)
    ratios = np.divide(mean, spread, out=np.zeros(count), where=spread > 1e-12)
    best = int(np.argmax(ratios))
    rows = drawn(n, block_length(daily[best]), seed)
    samples = len(rows)
    # how often each session is in each record
    times = np.bincount((rows + n * np.arange(samples)[:, None]).ravel(), minlength=n * samples).reshape(samples, n)
    centred, weights = daily - mean[:, None], (times / n).T
    again = _ratios(centred @ weights * n, centred**2 @ weights * n, n).max(axis=0)
    reached = float(ndtr(np.median(again) * math.sqrt(n)))
    independent = math.log(0.5) / math.log(reached) if 0.5 < reached < 1 else float(count if reached >= 1 else 1)
    chance = (1 + int((again >= ratios[best]).sum())) / (1 + samples)
    return Alike(chance, float(min(max(independent, 1.0), count)))


class Overfit(NamedTuple):
    """What choosing the best of many variants is worth out of the sample it was chosen in."""

    probability: float
    """Share of the splits in which the variant that is best in one half is below the middle in the other."""
    splits: int


def overfit(daily: Floats, parts: int = 12) -> Overfit | None:
    """Probability of backtest overfitting by combinatorially symmetric cross-validation.

    ``daily`` ``(variants, sessions)``. The sessions are cut into ``parts`` (even) stretches; of every half of them the
    variant with the best Sharpe ratio is ranked by its ratio in the other half (D. Bailey, J. Borwein, M. López de Prado
    and Q. Zhu, "The probability of backtest overfitting", 2017). ``None`` of fewer than two variants, or ten sessions a
    part. Variants without a trade in a half have the ratio 0 there.
    """
    count, n = daily.shape
    if count < 2 or n < 10 * parts or np.isnan(daily).any():
        return None
    width = n // parts
    cut = daily[:, n - width * parts :].reshape(count, parts, width)
    sums, squares = cut.sum(axis=2), (cut**2).sum(axis=2)
    halves = [list(half) for half in combinations(range(parts), parts // 2)]
    chosen = np.zeros((len(halves), parts))
    for row, half in enumerate(halves):
        chosen[row, half] = 1.0
    inside, outside = (
        _ratios(sums @ which.T, squares @ which.T, width * parts // 2) for which in (chosen, 1.0 - chosen)
    )
    best_there = outside[np.argmax(inside, axis=0), np.arange(len(halves))]
    # ties are worth half
    rank = (outside < best_there).sum(axis=0) + 0.5 * (outside == best_there).sum(axis=0)
    return Overfit(float((rank / count <= 0.5).mean()), len(halves))


def _ratios(sums: Floats, squares: Floats, n: int) -> Floats:
    """Sharpe ratios of sums and sums of squares of ``n`` returns."""
    mean = sums / n
    spread = np.sqrt(np.maximum(squares / n - mean**2, 0.0))
    return np.divide(mean, spread, out=np.zeros_like(mean), where=spread > 1e-12)


@dataclass(frozen=True)
class Order:
    """The same trades in other orders, and drawn again. Money; drawdowns as falls ≤ 0 from the highest so far."""

    happened: float
    """Deepest fall of the trades as they came, from one close to another."""
    middle: float
    """Its median over other orders of the same trades."""
    deep: float
    """One order in twenty falls deeper than this."""
    deeper: float
    """Share of the orders that fall deeper than what happened."""
    bands: npt.NDArray[np.float64]
    """Sum of P/L after ``places`` trades drawn again with replacement: 5, 50 and 95 %, ``(3, places)``."""
    places: npt.NDArray[np.int64]


def order(pnl: Sequence[float], seed: int) -> Order | None:
    """``None`` of fewer than 20 trades. Trades are taken to be independent of each other."""
    made = np.asarray(pnl, np.float64)
    if len(made) < LEAST_TRADES:
        return None
    rng = np.random.default_rng(seed)
    orders = rng.permuted(np.broadcast_to(made, (ORDERS, len(made))), axis=1)
    falls, happened = _deepest(orders), float(_deepest(made[None])[0])
    drawn = np.cumsum(made[rng.integers(0, len(made), (ORDERS, len(made)))], axis=1)
    places = np.unique(np.linspace(1, len(made), min(BAND_POINTS, len(made))).astype(np.int64))
    return Order(
        happened, float(np.median(falls)), float(np.percentile(falls, 5)), float((falls < happened).mean()),
        np.percentile(drawn[:, places - 1], (5, 50, 95), axis=0), places,
    )  # fmt: skip


def _deepest(pnl: Floats) -> Floats:
    """Deepest fall of the running sum of each row, from its highest so far, the start among them."""
    summed = np.cumsum(pnl, axis=1)
    deepest: Floats = (summed - np.maximum(np.maximum.accumulate(summed, axis=1), 0.0)).min(axis=1)
    return deepest


class Best(NamedTuple):
    """What is left without the best trades. Money."""

    total: float
    without_best: float
    few: int
    """One trade in twenty, at least one."""
    without_few: float


def best(pnl: Sequence[float]) -> Best | None:
    """``None`` of no trades."""
    if not pnl:
        return None
    made = np.sort(np.asarray(pnl, np.float64))[::-1]
    few = max(1, len(made) // 20)
    return Best(float(made.sum()), float(made[1:].sum()), few, float(made[few:].sum()))
