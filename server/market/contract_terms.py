"""Terms of an underlying's options by date: told, changed from a day on, and changed back."""

from __future__ import annotations

import datetime as dt
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from config.errors import Conflict, NotThere, Refused
from market.intake import later, read_terms
from market.models import TermsChange, Underlying, Venue

FIELDS = ("multiplier", "american", "settles", "rate", "currency", "calendar", "ticks")
BEGINNING = dt.date(1900, 1, 1)
"""Start of the terms that an underlying came with."""


def periods(row: Underlying) -> list[dict[str, Any]]:
    """Every period of terms, oldest first; the first has no start."""
    found = [(None if p.start == BEGINNING else p.start, p) for p in row.periods.all()] or [(None, row)]
    return [
        {
            "start": start,
            **{name: getattr(p, name) for name in FIELDS},
            "ticks": [{"start": a, "step": b} for a, b in p.ticks],
        }
        for start, p in found
    ]


def _locked(symbol: str) -> Underlying:
    row = Underlying.objects.select_for_update().filter(symbol=symbol).first()
    if row is None:
        raise NotThere(f"There is no underlying {symbol}.")
    if Venue.objects.filter(underlying=row).exists():
        raise Conflict(f"{symbol} is traded at the practice exchange, which sets its terms.")
    return row


@transaction.atomic
def change(user: User, symbol: str, start: dt.date, values: dict[str, Any]) -> Underlying:
    """New terms from ``start`` on; the same start again corrects them."""
    row = _locked(symbol)
    if start <= BEGINNING or start > dt.date.today() + dt.timedelta(days=3650):
        raise Refused("The day from which the terms hold lies too far away.", [{"path": "start", "message": "too far"}])
    now = {name: getattr(row, name) for name in FIELDS}
    checked = read_terms({**now, "quantum": str(row.quantum), **values})
    if checked["quantum"] != str(row.quantum):
        raise Refused("The step prices are kept in stays; the exchange's own steps may change.")
    if not row.periods.exists():
        TermsChange.objects.create(underlying=row, start=BEGINNING, **now)
    TermsChange.objects.update_or_create(underlying=row, start=start, defaults={name: checked[name] for name in FIELDS})
    return _settle(row)


@transaction.atomic
def change_back(user: User, symbol: str, start: dt.date) -> Underlying:
    """Take a change out: the terms before it hold on."""
    row = _locked(symbol)
    if not row.periods.filter(start=start).exclude(start=BEGINNING).delete()[0]:
        raise NotThere(f"No terms of {symbol} begin on {start:%-d %b %Y}.")
    return _settle(row)


def _settle(row: Underlying) -> Underlying:
    """Write the latest terms on the underlying; one period alone needs no list."""
    latest = row.periods.order_by("start").last()
    assert latest is not None
    for name in FIELDS:
        setattr(row, name, getattr(latest, name))
    row.save(update_fields=list(FIELDS))
    if row.periods.count() == 1:
        row.periods.all().delete()
    later(row)
    return row
