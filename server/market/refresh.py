"""What is current made readable: volatilities by what is known now, the cache that backtests read, contracts."""

from __future__ import annotations

import datetime as dt
import hashlib
from collections.abc import Callable, Iterator
from decimal import Decimal

from django.db import transaction
from django.db.models import Max

from config.push import notify_market
from market import calendars
from market.calendars import calendar_for
from market.models import Contract, Expiration, SessionChainRow, Underlying, Venue
from market.terms import terms
from market.timelines import data_digest, fold_in
from strell_core.formats.intake.sessions import revalued
from strell_core.market.chains import SessionChain, decode, digest, encode
from strell_core.market.dividends import Dividend
from strell_core.market.instruments import ContractKey, thousandths
from strell_core.pricing.surface import CONVENTIONS

Tell = Callable[[int, int], None]
"""Hears how many of how many sessions are worked through."""


class Basis:
    """What the volatilities of an underlying's sessions rest on: terms, calendar, interest, dividends, closes."""

    def __init__(self, row: Underlying) -> None:
        self.terms = terms(row)
        self.calendar = calendar_for(row)
        self._own = calendars.identity(row)
        self._dividends = [Dividend(d.date, float(d.amount)) for d in row.dividends.order_by("date")]
        self._closes = dict(row.bars.filter(given=True).values_list("date", "close"))

    def dividends(self, date: dt.date) -> list[Dividend]:
        """Those still to come on ``date``."""
        return [d for d in self._dividends if d.date > date]

    def close(self, date: dt.date) -> float | None:
        """The official closing value, where it is known."""
        value = self._closes.get(date)
        return None if value is None else value / 100

    def of(self, date: dt.date) -> str:
        """Identity of all of it for one session."""
        now = self.terms.on(date)
        known = [place for place, day in enumerate(self.terms.rates.dates) if day <= date]
        facts = (
            now.american, now.currency, now.rate, self.terms.rates.curves[known[-1]] if known else None,
            [(p.start, p.settles) for p in self.terms.periods] or now.settles, now.calendar, self._own,
            [(d.date, d.amount) for d in self.dividends(date)] if now.american else (), self.close(date),
        )  # fmt: skip
        return hashlib.sha256(repr(facts).encode()).hexdigest()[:32]


def refresh(row: Underlying, tell: Tell | None = None) -> list[dt.date]:
    """Bring what is read up to the chains and facts that are current; gives the sessions whose volatilities were
    computed anew. An underlying without any chain has no data."""
    changed = revalue(row, tell)
    if SessionChainRow.objects.filter(underlying=row, current=True).exists():
        if data_digest(row) != row.data_digest:
            fold_in(row)
    elif row.data_digest:
        row.data_digest = ""
        row.save(update_fields=["data_digest"])
    notify_market(row.symbol, "history")
    return changed


def revalue(row: Underlying, tell: Tell | None = None) -> list[dt.date]:
    """Compute volatilities anew where what they rest on has changed; a session that comes out otherwise gets a new
    version. A traded market's stay as its exchange publishes them."""
    if Venue.objects.filter(underlying=row).exists():
        return []
    basis = Basis(row)
    stored = SessionChainRow.objects.filter(underlying=row, current=True).order_by("date")
    due = [pk for pk, date, was in stored.values_list("pk", "date", "basis") if was != basis.of(date)]
    changed = []
    for number, pk in enumerate(due):
        if tell is not None:
            tell(number, len(due))
        with transaction.atomic():
            there = SessionChainRow.objects.select_for_update(no_key=True).filter(pk=pk, current=True).first()
            if there is not None and _revalue(there, basis):
                changed.append(there.date)
    return changed


def _revalue(there: SessionChainRow, basis: Basis) -> bool:
    date, made_of = there.date, basis.of(there.date)
    chain = revalued(
        decode(bytes(there.payload)), basis.terms, basis.calendar, basis.dividends(date), basis.close(date)
    )
    payload = encode(chain)
    identity = digest(payload)
    if identity == there.digest:
        SessionChainRow.objects.filter(pk=there.pk).update(basis=made_of)
        return False
    versions = SessionChainRow.objects.filter(underlying=there.underlying, date=date)
    SessionChainRow.objects.filter(pk=there.pk).update(current=False)
    there.pk, there.version = None, versions.aggregate(latest=Max("version"))["latest"] + 1
    there.payload, there.size, there.digest, there.basis = payload, len(payload), identity, made_of
    there.current, there.conventions = True, CONVENTIONS
    there.save(force_insert=True)
    return True


def list_contracts(row: Underlying, chains: Iterator[SessionChain]) -> None:
    """Keep which contracts were listed, and from when to when."""
    seen: dict[ContractKey, list[dt.date]] = {}
    for chain in chains:
        for contract in chain.contracts:
            days = seen.setdefault(contract, [chain.date, chain.date])
            days[0], days[1] = min(days[0], chain.date), max(days[1], chain.date)
    calendar, dated = calendar_for(row), terms(row)
    dates = {contract.expiration for contract in seen}
    Expiration.objects.bulk_create(
        [
            Expiration(
                underlying=row,
                date=d,
                settles_at=dt.datetime.fromtimestamp(calendar.settlement(d, dated.on(d).settles), dt.UTC),
            )
            for d in sorted(dates)
        ],
        ignore_conflicts=True,
    )
    by_date = {e.date: e for e in Expiration.objects.filter(underlying=row, date__in=dates)}
    known = {
        (c.expiration.date, c.right, thousandths(float(c.strike))): c
        for c in Contract.objects.filter(expiration__in=by_date.values()).select_related("expiration")
    }
    new, longer = [], []
    for contract, (first, last) in seen.items():
        there = known.get((contract.expiration, contract.right, thousandths(contract.strike)))
        if there is None:
            new.append(
                Contract(
                    expiration=by_date[contract.expiration], right=contract.right, strike=Decimal(str(contract.strike)),
                    first_session=first, last_session=last,
                )
            )  # fmt: skip
        elif first < there.first_session or last > there.last_session:
            there.first_session, there.last_session = min(first, there.first_session), max(last, there.last_session)
            longer.append(there)
    Contract.objects.bulk_create(new, batch_size=4000)
    Contract.objects.bulk_update(longer, ["first_session", "last_session"], batch_size=2000)
