"""Dividends of an underlying as they stand ahead of an option."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from strell_core.market.calendars import SessionCalendar

FloatArray = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Dividend:
    """Points that who holds a unit at the open of ``date`` does not get any more."""

    date: dt.date
    amount: float


def paid_at(dividend: Dividend, calendar: SessionCalendar) -> int:
    """The instant from which the price no longer carries the dividend: the open of its day."""
    if dividend.date in calendar:
        return calendar.session(dividend.date).open
    return calendar.session(calendar.on_or_before(dividend.date)).close


def to_come(
    dividends: Sequence[Dividend], calendar: SessionCalendar, now: int, settlement: int
) -> tuple[FloatArray, FloatArray]:
    """Seconds until each dividend that is paid after ``now`` and before ``settlement``, and points, ``(n,)``."""
    found = sorted((paid_at(d, calendar), d.amount) for d in dividends)
    ahead = [(at - now, amount) for at, amount in found if now < at < settlement]
    return np.array([seconds for seconds, _ in ahead], float), np.array([amount for _, amount in ahead], float)
