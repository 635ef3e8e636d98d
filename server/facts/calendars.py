"""Trading calendars of people's own: written down, corrected, taken out."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from config.errors import Conflict, Forbidden, NotThere, Refused
from config.versions import version_of
from market.ask import refresh_later
from market.calendars import rules_of
from market.models import CalendarRules, TermsChange, Underlying


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
            "version": version_of(row.rules),
        }
        for row in CalendarRules.objects.order_by("name")
    ]


def _may(user: User, row: CalendarRules) -> bool:
    return user.is_staff or row.owner_id == user.pk


@transaction.atomic
def keep(user: User, name: str, raw: dict[str, Any], based_on: str | None = None) -> CalendarRules:
    """Write a calendar down, or correct one's own; what follows it is arranged anew. ``based_on`` is the version that a
    correction was made to."""
    row = CalendarRules.objects.select_for_update(no_key=True).filter(name=name).first()
    if row is not None and not _may(user, row):
        raise Forbidden(f"{name} was written by somebody else; only they may change it.")
    if (None if row is None else version_of(row.rules)) != based_on:
        raise Conflict(f"{name} was changed elsewhere meanwhile. Look at it, then change it.")
    plain = {
        "zone": raw["zone"], "open": f"{raw['open']:%H:%M}", "close": f"{raw['close']:%H:%M}",
        "weekdays": sorted(set(raw["weekdays"])), "closed": sorted({str(day) for day in raw["closed"]}),
        "short": sorted([str(day["date"]), f"{day['close']:%H:%M}"] for day in raw["short"]),
    }  # fmt: skip
    problems = rules_of(name, plain).problems()
    if problems:
        raise Refused(
            " ".join(text for _, text in problems), [{"path": place, "message": text} for place, text in problems]
        )
    if row is None:
        row, made = CalendarRules.objects.get_or_create(name=name, defaults={"owner": user, "rules": plain})
        if not made:
            raise Conflict(f"{name} was written down elsewhere at the same moment. Look at it, then change it.")
        return row
    if row.rules != plain:
        row.rules = plain
        row.save(update_fields=["rules"])
        for underlying in _followers(name):
            refresh_later(underlying)
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
