"""Trading calendars by name: the demo's, real exchanges', people's own; and the one an underlying follows."""

from __future__ import annotations

import datetime as dt
from functools import lru_cache
from typing import Any

from market.models import CalendarRules, Underlying
from strell_core.market import calendars
from strell_core.market.calendars import MARROWICK, JoinedCalendar, OwnCalendar, SessionCalendar, exchange, marrowick


def calendar_of(name: str) -> SessionCalendar:
    """Raises ``KeyError`` for a calendar that is not known."""
    if name == MARROWICK:
        return marrowick()
    if name in calendars.names():
        return exchange(name)
    row = CalendarRules.objects.filter(name=name).first()
    if row is None:
        raise KeyError(name)
    return calendars.own(rules_of(row.name, row.rules))


def calendar_for(row: Underlying) -> SessionCalendar:
    """The calendar an underlying follows, where its terms changed it one after the other."""
    parts = [(period.start, period.calendar) for period in row.periods.all()]
    if len({name for _, name in parts}) < 2:
        return calendar_of(row.calendar)
    return _joined(tuple((start, calendar_of(name)) for start, name in parts))


@lru_cache(maxsize=16)
def _joined(parts: tuple[tuple[dt.date, SessionCalendar], ...]) -> SessionCalendar:
    return JoinedCalendar(parts)


def names() -> list[str]:
    """Every calendar that can be asked for; people's own come first."""
    return [*CalendarRules.objects.values_list("name", flat=True), *calendars.names()]


def identity(row: Underlying) -> str:
    """What of people's own calendars an underlying's history depends on."""
    mine = {row.calendar, *row.periods.values_list("calendar", flat=True)}
    found = CalendarRules.objects.filter(name__in=mine).order_by("name")
    return "".join(f"{rules.name}{sorted(rules.rules.items())}" for rules in found)


def rules_of(name: str, raw: dict[str, Any]) -> OwnCalendar:
    return OwnCalendar(
        name, raw["zone"], dt.time.fromisoformat(raw["open"]), dt.time.fromisoformat(raw["close"]),
        tuple(sorted(raw["weekdays"])), tuple(dt.date.fromisoformat(day) for day in raw["closed"]),
        tuple((dt.date.fromisoformat(day), dt.time.fromisoformat(close)) for day, close in raw["short"]),
    )  # fmt: skip
