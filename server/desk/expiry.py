"""What contracts and their underlying bring about by themselves: dividends, settlement, delivery, assignment (semantics
rules 10 and 20). The engine's own functions say what happens and at what price; here it is entered, once."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal

from django.db import transaction

from desk import book
from desk.leader import still_leading
from desk.locks import locked_holding
from desk.models import Holding
from desk.positions import moves
from market.calendars import calendar_for
from market.models import Bar, Venue
from strell_core.engine.exercise import exercised, strike_parts
from strell_core.engine.ledger import Held, holdings
from strell_core.engine.settlement import intrinsic_parts
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS
from venue.live import Live


def bring_about(epoch: int, venue: Venue, now: Live) -> None:
    """Enter what is due by the market's now; doing it again changes nothing."""
    rows = list(Holding.objects.filter(account__underlying=venue.underlying, closed_at=None))
    if not rows:
        return
    if now.timeline.underlying.dealt:
        for row in rows:
            _pay_dividends(epoch, row, now)
    _settle(epoch, rows, venue, now)
    if venue.sealed and now.session == venue.session:
        _assign(epoch, rows, now)


def _open(row: Holding) -> list[Held]:
    return [held for held in holdings(moves(row.fills.order_by("id"))).values() if held.contracts]


def _locked(epoch: int, row: Holding) -> Holding:
    """The holding, held until the transaction ends, by the desk that leads."""
    still_leading(epoch)
    return locked_holding(row.pk)


def _pay_dividends(epoch: int, row: Holding, now: Live) -> None:
    """Dividends that went ex since a holding was opened, of the units it held at that session's open."""
    calendar, quantum = now.timeline.calendar, now.timeline.underlying.quantum
    opened = calendar.local(row.opened_at).date()
    for date, amount in now.timeline.underlying.dividends:
        if not opened < date <= now.session:
            continue
        at = calendar.session(calendar.between(date, date + dt.timedelta(days=14))[0]).open
        held = holdings(moves(row.fills.filter(at__lt=at).order_by("id")))
        unit = held.get(ContractKey.unit(now.symbol))
        if unit is not None and unit.contracts:
            with transaction.atomic():
                parts = round(Decimal(str(amount)) * PARTS / quantum)
                book.pay(_locked(epoch, row), date, unit.contracts, parts, at)


def _settle(epoch: int, rows: list[Holding], venue: Venue, now: Live) -> None:
    """Settle contracts whose last session is over at its official value: in cash, or by delivery."""
    terms, values = now.timeline.underlying, dict[dt.date, int | None]()
    for row in rows:
        for held in _open(row):
            date = held.contract.expiration
            if held.contract.is_unit or date > venue.session or (date == venue.session and not venue.sealed):
                continue
            if date not in values:
                bar = Bar.objects.filter(underlying=venue.underlying, date=date).first()
                values[date] = bar.close if bar else None
            if (value := values[date]) is None:
                continue
            closed = calendar_for(venue.underlying).session(date).close
            parts = intrinsic_parts(held.contract, value, terms.quantum)
            with transaction.atomic():
                own = _locked(epoch, row)
                if held not in _open(own):
                    # dealt in meanwhile: it is looked at again
                    continue
                if parts and terms.on(date).delivers:
                    how = "exercised" if held.contracts > 0 else "assigned"
                    strike = strike_parts(held.contract, now.timeline)
                    book.deliver(own, held.contract, held.contracts, strike, closed, how)
                else:
                    book.settle(own, held.contract, held.contracts, parts, closed)


def _assign(epoch: int, rows: list[Holding], now: Live) -> None:
    """Exercise by their holders, at a session's end, of American options that were sold."""
    terms = now.timeline.underlying.on(now.session)
    if not (terms.american and terms.delivers):
        return
    for row in rows:
        for held in _open(row):
            short = held.contracts < 0 and not held.contract.is_unit and held.contract.expiration > now.session
            if short and now.listed(held.contract) and exercised(now.timeline, held.contract, 0):
                with transaction.atomic():
                    strike, own = strike_parts(held.contract, now.timeline), _locked(epoch, row)
                    if held in _open(own):
                        book.deliver(own, held.contract, held.contracts, strike, now.at, "assigned")
