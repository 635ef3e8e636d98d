"""Trading calendars: sessions with their opens and closes as UTC instants."""

from __future__ import annotations

import datetime as dt
import re
from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, Protocol
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import pandas as pd
from exchange_calendars import ExchangeCalendar, get_calendar, get_calendar_names
from exchange_calendars.exchange_calendar import HolidayCalendar
from pandas.tseries.holiday import Day, Easter, GoodFriday, Holiday

MARROWICK = "MARROWICK"
_FIRST, _LAST = (2000, 1, 3), (2032, 12, 31)


def is_zone(name: object) -> bool:
    """Whether a name is a time zone's, like Europe/Lisbon."""
    if not isinstance(name, str) or not 0 < len(name) <= 64:
        return False
    try:
        ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        return False
    return True


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


class DayCount(Protocol):
    """What tells to which day an instant belongs."""

    @property
    def tz(self) -> ZoneInfo: ...

    def date_of(self, instant: int) -> dt.date: ...


@dataclass(frozen=True)
class ZoneDays:
    """Days as a time zone counts them."""

    tz: ZoneInfo

    def date_of(self, instant: int) -> dt.date:
        return dt.datetime.fromtimestamp(instant, self.tz).date()


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
        self._closes = [session.close for session in sessions]

    def __contains__(self, date: dt.date) -> bool:
        return date in self._by_date

    def session(self, date: dt.date) -> Session:
        """The session of ``date``; raises ``KeyError`` when the exchange is closed that day."""
        return self._by_date[date]

    def settlement(self, date: dt.date, settles: str) -> int:
        """When options that settle at the ``open`` or ``close`` of ``date`` do, epoch seconds."""
        session = self.session(date)
        return session.open if settles == "open" else session.close

    def date_of(self, instant: int) -> dt.date:
        """The session an instant belongs to, which may open on the evening before its date; outside of sessions
        the exchange-local date."""
        index = bisect_left(self._closes, instant)
        if index < len(self.sessions) and self.sessions[index].open <= instant:
            return self.dates[index]
        return self.local(instant).date()

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


class JoinedCalendar(SessionCalendar):
    """One calendar after the other: each holds from its day on, until the next one's."""

    def __init__(self, parts: Sequence[tuple[dt.date, SessionCalendar]]) -> None:
        """``parts`` are days and calendars, oldest first; the first one also holds before its day."""
        self._starts = [start for start, _ in parts[1:]]
        self._parts = [calendar for _, calendar in parts]
        sessions: list[Session] = []
        for place, calendar in enumerate(self._parts):
            begin = dt.date.min if place == 0 else self._starts[place - 1]
            end = self._starts[place] - dt.timedelta(days=1) if place < len(self._starts) else dt.date.max
            sessions += [calendar.session(date) for date in calendar.between(begin, end)]
        super().__init__(" then ".join(calendar.name for calendar in self._parts), self._parts[-1].tz, sessions)

    def _on(self, date: dt.date) -> SessionCalendar:
        return self._parts[bisect_right(self._starts, date)]

    def local(self, instant: int) -> dt.datetime:
        utc = dt.datetime.fromtimestamp(instant, dt.UTC).date()
        return self._on(utc).local(instant)

    def instant(self, date: dt.date, time: dt.time) -> int:
        return self._on(date).instant(date, time)


@dataclass(frozen=True)
class OwnCalendar:
    """An exchange's hours and holidays as a person writes them down; times are local to ``zone``."""

    name: str
    zone: str
    open: dt.time
    close: dt.time
    weekdays: tuple[int, ...] = (0, 1, 2, 3, 4)
    """Days of the week with a session, Monday 0."""
    closed: tuple[dt.date, ...] = ()
    """Days without a session."""
    short: tuple[tuple[dt.date, dt.time], ...] = ()
    """Days that close earlier."""

    def problems(self) -> list[tuple[str, str]]:
        """What stands against it, as place and sentence."""
        out = []
        if not re.fullmatch(r"[A-Z][A-Z0-9_]{4,19}", self.name):
            out.append(
                ("name", "A calendar's name has 5 to 20 capital letters, digits and underscores, a letter first.")
            )
        elif self.name in names():
            out.append(("name", f"{self.name} is a calendar that is there already."))
        if not is_zone(self.zone):
            out.append(("zone", f"'{self.zone[:40]}' is no time zone; write it like Europe/Lisbon."))
        if not self.open < self.close:
            out.append(("close", "The close comes after the open, on the same day."))
        if not self.weekdays or not set(self.weekdays) <= set(range(7)):
            out.append(("weekdays", "Choose the days of the week with a session."))
        out += [
            ("short", f"{date} cannot close at {close:%H:%M}: the session is {self.open:%H:%M} to {self.close:%H:%M}.")
            for date, close in self.short
            if not self.open < close < self.close
        ]
        return out


@lru_cache(maxsize=16)
def own(facts: OwnCalendar) -> SessionCalendar:
    """Sessions of a calendar of one's own from 2000 to 2032, built with exchange_calendars."""

    class Made(ExchangeCalendar):  # type: ignore[misc]
        name = facts.name
        tz = ZoneInfo(facts.zone)
        open_times = ((None, facts.open),)
        close_times = ((None, facts.close),)
        weekmask = "".join("1" if day in facts.weekdays else "0" for day in range(7))
        adhoc_holidays = [pd.Timestamp(date) for date in facts.closed]

        @property
        def special_closes_adhoc(self) -> Any:
            times = sorted({close for _, close in facts.short})
            return [(t, pd.DatetimeIndex([d for d, close in facts.short if close == t])) for t in times]

    calendar = Made(start=pd.Timestamp(*_FIRST), end=pd.Timestamp(*_LAST))
    return SessionCalendar(facts.name, ZoneInfo(facts.zone), _sessions(calendar))


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
        calendar = get_calendar(name, start=pd.Timestamp(*_FIRST), end=pd.Timestamp(*_LAST))
    except ValueError:
        calendar = get_calendar(name)
    return SessionCalendar(name, ZoneInfo(str(calendar.tz)), _sessions(calendar))


@lru_cache(maxsize=8)
def marrowick(start: dt.date = dt.date(2022, 6, 1), end: dt.date = dt.date(2028, 6, 30)) -> SessionCalendar:
    """The demo exchange's sessions, built with exchange_calendars."""
    calendar = MarrowickExchangeCalendar(start=pd.Timestamp(start), end=pd.Timestamp(end))
    return SessionCalendar(MARROWICK, ZoneInfo("Europe/Lisbon"), _sessions(calendar))
