"""Shapes of dated facts, contract terms and calendars of one's own."""

import datetime as dt

from ninja import Schema

from config.schemas import Asked, Number


class OtherOut(Schema):
    name: str
    count: int
    first: dt.date | None
    last: dt.date | None


class OthersOut(Schema):
    rates: list[OtherOut]
    series: list[OtherOut]


class FactIn(Asked):
    date: dt.date
    what: str = ""


class PriceStep(Asked):
    """From a price in points on, prices move by ``step``."""

    start: Number
    step: Number


class PeriodOut(Schema):
    """Terms that hold from a day on; ``None``: from the beginning."""

    start: dt.date | None
    multiplier: int
    american: bool
    settles: str
    rate: float
    currency: str
    calendar: str
    ticks: list[PriceStep]
    """The exchange's price steps; empty: the step prices are kept in."""


class TermsIn(Asked):
    start: dt.date
    multiplier: int | None = None
    american: bool | None = None
    settles: str | None = None
    rate: float | None = None
    currency: str | None = None
    calendar: str | None = None
    ticks: list[PriceStep] | None = None


class ShortDay(Asked):
    date: dt.date
    close: dt.time


class CalendarIn(Asked):
    """Hours and holidays of an exchange; times are local to ``zone``, Monday is 0."""

    zone: str
    open: dt.time
    close: dt.time
    weekdays: list[int] = [0, 1, 2, 3, 4]
    closed: list[dt.date] = []
    short: list[ShortDay] = []


class CalendarChange(CalendarIn):
    based_on: str | None = None
    """The version that was changed; nothing for a new calendar."""


class CalendarOut(CalendarIn):
    name: str
    version: str
    used_by: list[str]
    mine: bool
    """Whether who asks may change it."""


class DividendRow(Asked):
    date: dt.date
    amount: float


class CopyIn(Asked):
    symbol: str


class CopiedOut(Schema):
    symbol: str
