"""A copy of an underlying's data under a symbol of one's own, to be corrected as one likes."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import connection, models, transaction
from django.db.models import Sum

from config.errors import Conflict, Refused
from market.ask import refresh_later
from market.models import (
    Bar,
    Dividend,
    Expiration,
    IntradayBars,
    MarketEvent,
    SessionChainRow,
    Split,
    TermsChange,
    Underlying,
)
from market.terms import SYMBOL, row_of

LARGEST = 2 << 30
MOST_OWN = 100
PARTS: tuple[type[models.Model], ...] = (Bar, IntradayBars, Dividend, Split, MarketEvent, TermsChange, Expiration)
CONTRACTS = """
INSERT INTO market_contract (expiration_id, "right", strike, first_session, last_session)
SELECT mine.id, theirs."right", theirs.strike, theirs.first_session, theirs.last_session
FROM market_expiration mine JOIN market_expiration its ON its.date = mine.date
JOIN market_contract theirs ON theirs.expiration_id = its.id
WHERE mine.underlying_id = %s AND its.underlying_id = %s
"""
"""Tens of thousands of rows that need not be read for that."""


@transaction.atomic
def copy(user: User, symbol: str, new: str) -> Underlying:
    """Everything current of ``symbol`` as ``new``, which belongs to ``user``; earlier versions stay behind."""
    source, new = row_of(symbol), new.strip().upper()
    if not SYMBOL.fullmatch(new):
        raise Refused(
            "A symbol has 1 to 16 capital letters, digits or any of . ^ _ -",
            [{"path": "symbol", "message": "1 to 16 characters"}],
        )
    if Underlying.objects.filter(symbol=new).exists():
        raise Conflict(f"There is an underlying {new} already; choose another symbol.")
    if Underlying.objects.filter(owner=user).count() >= MOST_OWN:
        raise Refused(f"There are {MOST_OWN} underlyings of your own already.")
    current = SessionChainRow.objects.filter(underlying=source, current=True)
    size = current.aggregate(size=Sum("size") + Sum("extras_size"))["size"] or 0
    if size > LARGEST:
        raise Refused(f"{symbol} takes {size >> 30} GiB. Write the range you need to a file, and load it as {new}.")
    made = Underlying.objects.get(pk=source.pk)
    made.pk, made.symbol, made.owner, made.data_digest = None, new, user, ""
    made._state.adding = True
    made.save()
    for model in PARTS:
        _again(model, model._default_manager.filter(underlying=source), underlying=made)
    _again(SessionChainRow, current, underlying=made, version=1, intake=None)
    with connection.cursor() as cursor:
        cursor.execute(CONTRACTS, [made.pk, source.pk])
    refresh_later(made)
    return made


def _again(model: type[models.Model], rows: Any, **changed: Any) -> None:
    block = []
    for row in rows.iterator(chunk_size=50):
        row.pk = None
        row._state.adding = True
        for name, value in changed.items():
            setattr(row, name, value)
        block.append(row)
        if len(block) == 50:
            model._default_manager.bulk_create(block)
            block = []
    model._default_manager.bulk_create(block)
