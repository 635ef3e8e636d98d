"""Which contracts the demo exchange lists on a day."""

from __future__ import annotations

import datetime as dt

from strell_core.market.calendars import SessionCalendar

WEEKLY_WEEKS, FRIDAY_WEEKS = 5, 9
"""For how many weeks weeklies of three days are listed, and for how many those of Fridays."""
MONTHLY_MONTHS = 7
NEAR_STEP, FAR_STEP = 10, 50


def third_friday(year: int, month: int) -> dt.date:
    first = dt.date(year, month, 1)
    return first + dt.timedelta(days=(4 - first.weekday()) % 7 + 14)


def expirations(calendar: SessionCalendar, day: dt.date, fridays: int = FRIDAY_WEEKS) -> list[dt.date]:
    """Expirations listed on ``day``: Monday, Wednesday and Friday weeklies, Fridays for so many weeks,
    third-Friday monthlies.

    A date on which the exchange is closed moves to the session before it.
    """
    raw = {
        date for ahead in range(7 * WEEKLY_WEEKS + 1) if (date := day + dt.timedelta(days=ahead)).weekday() in (0, 2, 4)
    }
    raw |= {date for ahead in range(7 * fridays + 1) if (date := day + dt.timedelta(days=ahead)).weekday() == 4}
    for ahead in range(MONTHLY_MONTHS):
        years, month = divmod(day.month - 1 + ahead, 12)
        raw.add(third_friday(day.year + years, month + 1))
    moved = {calendar.on_or_before(date) for date in raw}
    return sorted(date for date in moved if date >= day)


def is_monthly(calendar: SessionCalendar, expiration: dt.date) -> bool:
    return calendar.on_or_before(third_friday(expiration.year, expiration.month)) == expiration


def strikes(recent: tuple[float, float], long: tuple[float, float], monthly: bool) -> list[int]:
    """Strikes when the underlying has ranged over ``recent`` in the last weeks and ``long`` in months.

    Every 10 near the money as the last weeks saw it; every 50 further out, for monthlies over all
    their life.
    """
    far, (low, high) = (0.16, long) if monthly else (0.09, recent)
    inner = _every(NEAR_STEP, recent[0] * 0.955, recent[1] * 1.045)
    return sorted({*inner, *_every(FAR_STEP, low * (1 - far), high * (1 + far))})


def _every(step: int, low: float, high: float) -> range:
    return range(int(low // step) * step, int(high) + step, step)
