"""Terms of an underlying's options: read, told by date, changed from a day on, and changed back."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from config.errors import Conflict, NotThere, Refused
from market.ask import refresh_later
from market.calendars import names as calendar_names
from market.models import TermsChange, Underlying, Venue
from market.rights import need_change
from market.terms import row_of
from strell_core.market.prices import number

FIELDS = ("multiplier", "american", "settles", "rate", "currency", "calendar", "ticks")
BEGINNING = dt.date(1900, 1, 1)
"""Start of the terms that an underlying came with."""


def usual_terms() -> dict[str, Any]:
    return {
        "kind": "stock", "currency": "EUR", "multiplier": 100, "quantum": "0.01", "calendar": "XNYS", "american": True,
        "settles": "close", "rate": 0.0, "ticks": [],
    }  # fmt: skip


def read_terms(raw: dict[str, Any]) -> dict[str, Any]:
    """Terms of underlyings that a file brings; raises :class:`Refused`."""
    made = {**usual_terms(), **{name: raw[name] for name in usual_terms() if name in raw}}
    problems: list[tuple[str, str]] = []
    if made["kind"] not in Underlying.Kind.values:
        problems.append(("kind", f"An underlying is one of {', '.join(Underlying.Kind.values)}."))
    if not (isinstance(made["currency"], str) and len(made["currency"]) == 3 and made["currency"].isalpha()):
        problems.append(("currency", "A currency has three letters, like EUR."))
    try:
        multiplier = number(made["multiplier"])
        if not 1 <= multiplier <= 100_000 or multiplier != int(multiplier):
            raise ValueError
        made["multiplier"] = int(multiplier)
    except ValueError:
        problems.append(("multiplier", "The multiplier is a whole number from 1 to 100 000."))
    try:
        quantum = number(made["quantum"])
        if not Decimal("0.0001") <= quantum <= 1 or quantum * 10_000 != int(quantum * 10_000):
            raise ValueError
        made["quantum"] = str(quantum)
    except ValueError:
        problems.append(("quantum", "The smallest price step lies between 0.0001 and 1, in steps of 0.0001."))
    if made["calendar"] not in calendar_names():
        problems.append(("calendar", f"There is no calendar '{made['calendar']}'. Choose one of the list."))
    try:
        made["rate"] = float(number(made["rate"]))
        if not -0.1 <= made["rate"] <= 1.0:
            raise ValueError
    except ValueError:
        problems.append(("rate", "The interest rate lies between -0.1 and 1 (0.021 is 2.1 % a year)."))
    if made["settles"] not in ("open", "close"):
        problems.append(("settles", "Options settle at the open or at the close."))
    made["ticks"] = _read_ticks(made["ticks"], made["quantum"], problems)
    made["american"], made["currency"] = bool(made["american"]), str(made["currency"]).upper()[:3]
    if problems:
        raise Refused(
            " ".join(text for _, text in problems), [{"path": place, "message": text} for place, text in problems]
        )
    return made


def _read_ticks(raw: Any, quantum: Any, problems: list[tuple[str, str]]) -> list[list[str]]:
    """Price steps as pairs of text: from which price on, and the step."""
    try:
        pairs = sorted((number(start), number(step)) for start, step in raw)
        whole = number(quantum)
    except (TypeError, ValueError):
        problems.append(("ticks", "Price steps are pairs: from which price on, and the step."))
        return []
    starts = [start for start, _ in pairs]
    if any(not 0 <= start < 100_000 or start % whole for start in starts):
        problems.append(("ticks", "A price step begins at a price that is a multiple of the smallest step."))
    elif any(not 0 < step <= 100 or step % whole for _, step in pairs):
        problems.append(("ticks", f"A price step is a multiple of the smallest step prices are kept in, {whole}."))
    elif pairs and (starts[0] != 0 or len(set(starts)) < len(starts)):
        problems.append(("ticks", "The first price step begins at 0, each other at a price of its own."))
    return [[str(start), str(step)] for start, step in pairs]


def periods(row: Underlying) -> list[dict[str, Any]]:
    """Every period of terms, oldest first; the first has no start."""
    found: list[tuple[dt.date | None, Underlying | TermsChange]] = [
        (None if p.start == BEGINNING else p.start, p) for p in row.periods.all()
    ] or [(None, row)]
    return [
        {
            "start": start,
            **{name: getattr(p, name) for name in FIELDS},
            "ticks": [{"start": a, "step": b} for a, b in p.ticks],
        }
        for start, p in found
    ]


def _locked(user: User, symbol: str) -> Underlying:
    row = Underlying.objects.select_for_update(no_key=True).get(pk=row_of(symbol).pk)
    need_change(user, row)
    if Venue.objects.filter(underlying=row).exists():
        raise Conflict(f"{symbol} is traded at the practice exchange, which sets its terms.")
    return row


@transaction.atomic
def change(user: User, symbol: str, start: dt.date, values: dict[str, Any]) -> Underlying:
    """New terms from ``start`` on; the same start again corrects them."""
    row = _locked(user, symbol)
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
    row = _locked(user, symbol)
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
    refresh_later(row)
    return row
