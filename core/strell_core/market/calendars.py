"""Trading calendars: sessions with their opens and closes as UTC instants."""

from __future__ import annotations

import datetime as dt
from bisect import bisect_left, bisect_right
from dataclasses import dataclass
from functools import lru_cache
from typing import Any
from zoneinfo import ZoneInfo

import pandas as pd
from exchange_calendars import ExchangeCalendar, get_calendar, get_calendar_names
from exchange_calendars.exchange_calendar import HolidayCalendar
from pandas.tseries.holiday import Day, Easter, GoodFriday, Holiday

MARROWICK = "MARROWICK"


class MarrowickExchangeCalendar(ExchangeCalendar):  # type: ignore[misc]
    """The demo's invented exchange: 09:00 to 17:30 Lisbon time, own holidays, two half days a year."""

    name = MARROWICK
    tz = ZoneInfo("Europe/Lisbon")
    open_times = ((None, dt.time(9, 0)),)
    close_times = ((None, dt.time(17, 30)),)

    @property
    def regular_holidays(self) -> Any:
        return HolidayCalendar(
            [
                Holiday("New Year", month=1, day=1),
                Holiday("Founders' Day", month=2, day=11),
                GoodFriday,
                Holiday("Easter Monday", month=1, day=1, offset=[Easter(), Day(1)]),
                Holiday("Lantern Day", month=5, day=20),
                Holiday("Harbour Day", month=8, day=6),
                Holiday("Net Blessing", month=10, day=14),
                Holiday("Christmas", month=12, day=25),
                Holiday("Second Christmas Day", month=12, day=26),
            ]
        )

    @property
    def special_closes(self) -> Any:
        half_days = [
            Holiday("Christmas Eve", month=12, day=24, days_of_week=(0, 1, 2, 3, 4)),
            Holiday("New Year's Eve", month=12, day=31, days_of_week=(0, 1, 2, 3, 4)),
        ]
        return [(dt.time(13, 0), HolidayCalendar(half_days))]


@dataclass(frozen=True)
class Session:
    """One trading day. Instants are epoch seconds, UTC."""

    date: dt.date
    open: int
    close: int


class SessionCalendar:
    """Sessions of one exchange between two dates, in order.

    Every look-up is by date or instant; nothing here depends on today's date.
    """

    def __init__(self, name: str, tz: ZoneInfo, sessions: list[Session]) -> None:
        self.name = name
        self.tz = tz
        self.sessions = sessions
        self.dates = [session.date for session in sessions]
        self._by_date = {session.date: session for session in sessions}

    def __contains__(self, date: dt.date) -> bool:
        return date in self._by_date

    def session(self, date: dt.date) -> Session:
        """The session of ``date``; raises ``KeyError`` when the exchange is closed that day."""
        return self._by_date[date]

    def settlement(self, date: dt.date, settles: str) -> int:
        """When options that settle at the ``open`` or ``close`` of ``date`` do, epoch seconds."""
        session = self.session(date)
        return session.open if settles == "open" else session.close

    def on_or_before(self, date: dt.date) -> dt.date:
        """The latest session date not after ``date``; raises ``ValueError`` before the first."""
        index = bisect_right(self.dates, date)
        if index == 0:
            raise ValueError(f"{date} lies before the calendar's first session {self.dates[0]}")
        return self.dates[index - 1]

    def between(self, start: dt.date, end: dt.date) -> list[dt.date]:
        """Session dates from ``start`` to ``end``, both included."""
        return self.dates[bisect_left(self.dates, start) : bisect_right(self.dates, end)]

    def local(self, instant: int) -> dt.datetime:
        """Exchange-local time of an epoch second."""
        return dt.datetime.fromtimestamp(instant, self.tz)

    def instant(self, date: dt.date, time: dt.time) -> int:
        """Epoch second of an exchange-local date and time."""
        return int(dt.datetime.combine(date, time, self.tz).timestamp())


def _sessions(calendar: ExchangeCalendar) -> list[Session]:
    opens = [int(stamp.timestamp()) for stamp in calendar.opens]
    closes = [int(stamp.timestamp()) for stamp in calendar.closes]
    return [
        Session(stamp.date(), opened, closed)
        for stamp, opened, closed in zip(calendar.sessions, opens, closes, strict=True)
    ]


def names() -> list[str]:
    """Calendars that can be asked for: the demo's, and exchanges by their market identifier code (ISO 10383)."""
    return [
        MARROWICK,
        *sorted(name for name in get_calendar_names(include_aliases=False) if len(name) == 4 and name.isalpha()),
    ]


@lru_cache(maxsize=8)
def exchange(name: str) -> SessionCalendar:
    """Sessions of a real exchange from 2000 to 2032, or as far as exchange_calendars knows its holidays;
    raises ``KeyError`` for an unknown name."""
    if name not in names():
        raise KeyError(name)
    try:
        calendar = get_calendar(name, start=pd.Timestamp(2000, 1, 3), end=pd.Timestamp(2032, 12, 31))
    except ValueError:
        calendar = get_calendar(name)
    return SessionCalendar(name, ZoneInfo(str(calendar.tz)), _sessions(calendar))


@lru_cache(maxsize=8)
def marrowick(start: dt.date = dt.date(2022, 6, 1), end: dt.date = dt.date(2028, 6, 30)) -> SessionCalendar:
    """The demo exchange's sessions, built with exchange_calendars."""
    calendar = MarrowickExchangeCalendar(start=pd.Timestamp(start), end=pd.Timestamp(end))
    return SessionCalendar(MARROWICK, ZoneInfo("Europe/Lisbon"), _sessions(calendar))
