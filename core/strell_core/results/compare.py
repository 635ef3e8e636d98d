"""Runs side by side: whether one is better than another by more than chance, and where their trades part."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np

from strell_core.results import bootstrap
from strell_core.results.metrics import LEAST_SESSIONS, SESSIONS_A_YEAR


class Difference(NamedTuple):
    """Daily returns of one run less those of another, on the sessions that both looked at."""

    sessions: int
    yearly: float
    """252 times their mean."""
    likely: tuple[float, float] | None
    """90 % range of it; ``None`` of fewer than 60 sessions in common."""
    chance: float | None
    """How often two runs that are as good as each other differ by as much, either way."""


def difference(one: Mapping[dt.date, float], other: Mapping[dt.date, float], seed: int) -> Difference | None:
    """By the stationary bootstrap of the paired differences (their days are drawn together, so that what moves both
    is no difference); ``None`` without a session in common, or where a return is no number."""
    common = sorted(one.keys() & other.keys())
    apart = np.array([one[date] - other[date] for date in common])
    if not len(apart) or np.isnan(apart).any():
        return None
    yearly = float(apart.mean()) * SESSIONS_A_YEAR
    if len(apart) < LEAST_SESSIONS:
        return Difference(len(apart), yearly, None, None)
    if np.ptp(apart) == 0:
        same = bool(apart[0] == 0)
        return Difference(len(apart), yearly, (yearly, yearly), 1.0 if same else 0.0)
    drawn = apart[bootstrap.rows_of(apart, seed)].mean(axis=1) * SESSIONS_A_YEAR
    around = drawn - drawn.mean()
    return Difference(len(apart), yearly, bootstrap.likely(drawn), float((np.abs(around) >= abs(yearly)).mean()))


class Day(NamedTuple):
    """A day on which trades were entered: net P/L of those of each run, ``None`` where one entered nothing."""

    date: dt.date
    one: float | None
    other: float | None

    @property
    def apart(self) -> float:
        return (self.one or 0.0) - (self.other or 0.0)


def days(one: Sequence[tuple[dt.date, float]], other: Sequence[tuple[dt.date, float]]) -> list[Day]:
    """Trades paired by the day of their entry, as (date, net P/L); where the two differ most first."""

    def summed(trades: Sequence[tuple[dt.date, float]]) -> dict[dt.date, float]:
        out: dict[dt.date, float] = {}
        for date, pnl in trades:
            out[date] = out.get(date, 0.0) + pnl
        return out

    a, b = summed(one), summed(other)
    paired = [Day(date, a.get(date), b.get(date)) for date in a.keys() | b.keys()]
    return sorted(paired, key=lambda day: (-abs(day.apart), day.date))
