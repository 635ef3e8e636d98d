"""A run's record drawn again from itself, and the figures of every sample: formulas as in :mod:`results.metrics`."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from functools import cached_property

import numpy as np

from strell_core.results.bootstrap import rows_of
from strell_core.results.metrics import LEAST_SESSIONS, LEAST_TRADES, SESSIONS_A_YEAR, Floats

NEARLY_ALL = -0.999
"""A day drawn again loses no more than this: what loses everything ends a run."""


@dataclass(frozen=True)
class Days:
    """Daily returns ``(samples, sessions)``."""

    returns: Floats
    start: float

    @cached_property
    def grown(self) -> Floats:
        """Equity as multiples of the start, ``(samples, sessions)``."""
        return np.asarray(np.cumprod(1.0 + np.maximum(self.returns, NEARLY_ALL), axis=1), np.float64)


@dataclass(frozen=True)
class Trades:
    """Net P/L and credits of trades, both ``(samples, trades)``."""

    pnl: Floats
    credits: Floats


def days(daily: Floats, start: float, seed: int) -> Days | None:
    """``None`` of fewer than 60 sessions, and where a return is no number."""
    if len(daily) < LEAST_SESSIONS or np.isnan(daily).any():
        return None
    return Days(daily[rows_of(daily, seed)], start)


def trades(pnl: Sequence[Decimal], credits: Sequence[Decimal], seed: int) -> Trades | None:
    """In the order in which they closed; ``None`` of fewer than 20."""
    if len(pnl) < LEAST_TRADES:
        return None
    made = np.array([float(value) for value in pnl])
    places = rows_of(made, seed)
    return Trades(made[places], np.array([float(value) for value in credits])[places])


def _over(above: Floats, below: Floats) -> Floats:
    """One divided by the other, endless where nothing is below."""
    return np.divide(above, below, out=np.full(len(above), np.inf), where=below > 0)


def _mean_where(values: Floats, which: np.ndarray) -> Floats:
    count = which.sum(axis=1)
    return np.divide((values * which).sum(axis=1), count, out=np.full(len(values), np.nan), where=count > 0)


def final_equities(days: Days) -> Floats:
    return days.start * days.grown[:, -1]


def growths(days: Days) -> Floats:
    return days.grown[:, -1] ** (SESSIONS_A_YEAR / days.grown.shape[1]) - 1.0


def falls(days: Days) -> Floats:
    peak = np.maximum(np.maximum.accumulate(days.grown, axis=1), 1.0)
    deepest: Floats = (days.grown / peak - 1.0).min(axis=1)
    return deepest


def mars(days: Days) -> Floats:
    return _over(growths(days), -falls(days))


def sharpes(days: Days) -> Floats:
    return _over(days.returns.mean(axis=1) * math.sqrt(SESSIONS_A_YEAR), days.returns.std(axis=1, ddof=1))


def sortinos(days: Days) -> Floats:
    below = np.sqrt(np.mean(np.minimum(days.returns, 0.0) ** 2, axis=1))
    return _over(days.returns.mean(axis=1) * math.sqrt(SESSIONS_A_YEAR), below)


def win_rates(trades: Trades) -> Floats:
    return (trades.pnl > 0).mean(axis=1)


def average_wins(trades: Trades) -> Floats:
    return _mean_where(trades.pnl, trades.pnl > 0)


def average_losses(trades: Trades) -> Floats:
    return _mean_where(trades.pnl, trades.pnl < 0)


def expectancies(trades: Trades) -> Floats:
    return trades.pnl.mean(axis=1)


def profit_factors(trades: Trades) -> Floats:
    return _over(np.maximum(trades.pnl, 0.0).sum(axis=1), -np.minimum(trades.pnl, 0.0).sum(axis=1))


def credits_kept(trades: Trades) -> Floats:
    return _over((trades.pnl * (trades.credits > 0)).sum(axis=1), np.maximum(trades.credits, 0.0).sum(axis=1))
