"""Trading calendars by name: the demo's, real exchanges', people's own; and the one an underlying follows."""

from __future__ import annotations

import datetime as dt
from functools import lru_cache
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from config.errors import Conflict, Forbidden, NotThere, Refused
from market.models import CalendarRules, TermsChange, Underlying
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
    return calendars.own(_rules(row.name, row.rules))


def calendar_for(row: Underlying) -> SessionCalendar:
    """The calendar an underlying follows, where its terms changed it one after the other."""
    parts = list(row.periods.order_by("start").values_list("start", "calendar"))
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


def _rules(name: str, raw: dict[str, Any]) -> OwnCalendar:
    return OwnCalendar(
        name, raw["zone"], dt.time.fromisoformat(raw["open"]), dt.time.fromisoformat(raw["close"]),
        tuple(sorted(raw["weekdays"])), tuple(dt.date.fromisoformat(day) for day in raw["closed"]),
        tuple((dt.date.fromisoformat(day), dt.time.fromisoformat(close)) for day, close in raw["short"]),
    )  # fmt: skip


def told(user: User) -> list[dict[str, Any]]:
    """People's own calendars, with what follows them."""
    used: dict[str, set[str]] = {}
    for symbol, name in (
        *Underlying.objects.values_list("symbol", "calendar"),
        *TermsChange.objects.values_list("underlying__symbol", "calendar"),
    ):
        used.setdefault(name, set()).add(symbol)
    return [
        {
            "name": row.name,
            **row.rules,
            "short": [{"date": day, "close": close} for day, close in row.rules["short"]],
            "used_by": sorted(used.get(row.name, ())),
            "mine": _may(user, row),
        }
        for row in CalendarRules.objects.order_by("name")
    ]


def _may(user: User, row: CalendarRules) -> bool:
    return user.is_staff or row.owner_id == user.pk


@transaction.atomic
def keep(user: User, name: str, raw: dict[str, Any]) -> CalendarRules:
    """Write a calendar down, or correct one's own; what follows it is arranged anew."""
    row = CalendarRules.objects.select_for_update().filter(name=name).first()
    if row is not None and not _may(user, row):
        raise Forbidden(f"{name} was written by somebody else; only they may change it.")
    plain = {
        "zone": raw["zone"], "open": f"{raw['open']:%H:%M}", "close": f"{raw['close']:%H:%M}",
        "weekdays": sorted(set(raw["weekdays"])), "closed": sorted({str(day) for day in raw["closed"]}),
        "short": sorted([str(day["date"]), f"{day['close']:%H:%M}"] for day in raw["short"]),
    }  # fmt: skip
    problems = _rules(name, plain).problems()
    if problems:
        raise Refused(
            " ".join(text for _, text in problems), [{"path": place, "message": text} for place, text in problems]
        )
    if row is None:
        return CalendarRules.objects.create(owner=user, name=name, rules=plain)
    if row.rules != plain:
        row.rules = plain
        row.save(update_fields=["rules"])
        from market.refresh import later

        for underlying in _followers(name):
            later(underlying)
    return row


@transaction.atomic
def forget(user: User, name: str) -> None:
    row = CalendarRules.objects.filter(name=name).first()
    if row is None:
        raise NotThere(f"There is no calendar {name}.")
    if not _may(user, row):
        raise Forbidden(f"{name} was written by somebody else; only they may take it out.")
    if followers := _followers(name):
        raise Conflict(f"{', '.join(u.symbol for u in followers)} follow {name}; give them another calendar first.")
    row.delete()


def _followers(name: str) -> list[Underlying]:
    found = Underlying.objects.filter(calendar=name) | Underlying.objects.filter(periods__calendar=name)
    return list(found.distinct().order_by("symbol"))
