"""A copy of an underlying's data under a symbol of one's own, to be corrected as one likes."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import models, transaction
from django.db.models import Sum

from config.errors import Conflict, Refused
from market.ask import refresh_later
from market.models import (
    Bar,
    Dividend,
    IntradayBars,
    MarketEvent,
    SessionChainRow,
    Split,
    TermsChange,
    Underlying,
)
from market.refresh import list_contracts
from market.terms import SYMBOL, row_of
from strell_core.market.chains import decode

LARGEST = 2 << 30
MOST_OWN = 100
PARTS: tuple[type[models.Model], ...] = (Bar, IntradayBars, Dividend, Split, MarketEvent, TermsChange)


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
    payloads = SessionChainRow.objects.filter(underlying=made).values_list("payload", flat=True)
    list_contracts(made, (decode(bytes(payload)) for payload in payloads.iterator(chunk_size=8)))
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
