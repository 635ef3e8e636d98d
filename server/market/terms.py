"""Underlyings as the core reads them: their terms by date, interest, dividends, splits."""

from __future__ import annotations

import re
from decimal import Decimal

from django.db.models.functions import Coalesce

from config.errors import NotThere
from market.models import Rate, Underlying, Venue
from strell_core.market import instruments
from strell_core.market.rates import RateCurves

SYMBOL = re.compile(r"[A-Z0-9.^_-]{1,16}")


def row_of(symbol: str) -> Underlying:
    row = Underlying.objects.filter(symbol=symbol).first()
    if row is None:
        raise NotThere(f"There is no underlying {symbol}.")
    return row


def terms(row: Underlying) -> instruments.Underlying:
    """Terms as the core reads them; dividends only where options are American."""
    paid = row.dividends.values_list("date", "amount") if row.american else ()
    return instruments.Underlying(
        row.symbol,
        row.name,
        row.currency,
        row.multiplier,
        row.quantum.normalize(),
        row.calendar,
        row.rate,
        american=row.american,
        kind=row.kind,
        settles=row.settles,
        periods=tuple(
            instruments.TermsPeriod(
                p.start, p.multiplier, p.american, p.settles, p.rate, p.currency, p.calendar, _ticks(p.ticks)
            )
            for p in row.periods.all()
        ),
        ticks=_ticks(row.ticks),
        rates=curves(row),
        splits=tuple(row.splits.order_by("date").values_list("date", "ratio")),
        events=tuple(row.events.order_by("date", "event").values_list("date", Coalesce("at", 0), "event")),
        dividends=tuple((date, float(amount)) for date, amount in paid),
    )


def _ticks(raw: list[list[str]]) -> instruments.Ticks:
    return tuple((Decimal(start), Decimal(step)) for start, step in raw)


def curves(row: Underlying) -> RateCurves:
    """Interest by term in an underlying's currency; a traded market's is that of its terms alone."""
    if Venue.objects.filter(underlying=row).exists():
        return RateCurves()
    return RateCurves.of(Rate.objects.filter(currency=row.currency).values_list("date", "days", "rate"))
