"""Interest by term, as it was known on a day."""

from __future__ import annotations

import datetime as dt
import math
from bisect import bisect_right
from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np

DAYS_A_YEAR = 365


@dataclass(frozen=True)
class RateCurves:
    """Curves of one currency, oldest first: day and points ``(days, continuously compounded rate a year)``."""

    dates: tuple[dt.date, ...] = ()
    curves: tuple[tuple[tuple[int, float], ...], ...] = field(default=(), repr=False)

    @classmethod
    def of(cls, quoted: Iterable[tuple[dt.date, int, float]]) -> RateCurves:
        """From rows of day, term in days, and percent a year with yearly compounding."""
        by_date: dict[dt.date, dict[int, float]] = {}
        for date, days, percent in quoted:
            by_date.setdefault(date, {})[days] = math.log1p(percent / 100)
        dates = tuple(sorted(by_date))
        return cls(dates, tuple(tuple(sorted(by_date[date].items())) for date in dates))

    def at(self, date: dt.date, days: float) -> float | None:
        """Rate for a term by the last curve known on ``date``, ``None`` before the first.

        Linear in the rate between terms, flat beyond the shortest and the longest (common practice).
        """
        index = bisect_right(self.dates, date) - 1
        if index < 0:
            return None
        terms, rates = zip(*self.curves[index], strict=True)
        return float(np.interp(days, terms, rates))


def earned(rate: float, days: int) -> float:
    """What one unit of money earns at a continuously compounded rate a year, in calendar days of 365."""
    return math.expm1(rate * days / DAYS_A_YEAR)
