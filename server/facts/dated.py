"""Dated facts beside the chains: stored from a file, told, written out, taken back.

One :class:`Store` a kind says which rows of the database a record is. Storing is by key, so the same file twice
changes nothing, a killed intake is just begun again, and what was there before is kept to be put back.
"""

from __future__ import annotations

import base64
import csv
import datetime as dt
import io
import json
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import numpy as np
import zstandard
from django.contrib.auth.models import User
from django.db import models, transaction

from config.errors import NotThere, Refused
from market.ask import refresh_later
from market.calendars import calendar_for
from market.models import (
    Bar,
    DatedChange,
    Dividend,
    Intake,
    IntradayBars,
    MarketEvent,
    Rate,
    Series,
    SeriesValue,
    Split,
    Underlying,
)
from market.rights import need_change, need_operator
from market.terms import row_of
from strell_core.formats.cells import marked
from strell_core.formats.intake.dated import Record

MOST_DIVIDEND = 10_000.0
BAR = np.dtype([("at", "<i8"), ("open", "<i4"), ("high", "<i4"), ("low", "<i4"), ("close", "<i4"), ("volume", "<i8")])
"""A bar within a session: epoch seconds at which it ends or begins, as the file says; prices 0.01 points."""


def pack(bars: np.ndarray) -> bytes:
    """Bars of one session, ordered by time, compressed."""
    return zstandard.ZstdCompressor(level=5).compress(np.sort(bars, order="at").tobytes())


def unpack(payload: bytes) -> np.ndarray:
    return np.frombuffer(zstandard.ZstdDecompressor().decompress(bytes(payload)), BAR)


@dataclass(frozen=True)
class Store:
    """How records of one kind are rows: ``owner`` finds what they belong to, ``row`` gives key and values."""

    model: type[models.Model]
    owner: str
    key: tuple[str, ...]
    row: Callable[[Record], dict[str, Any]]


STORES: dict[str, Store] = {
    "bars": Store(
        Bar, "underlying", ("date",),
        lambda r: {"date": r.date, **{n: round(r.values[n] * 100) for n in ("open", "high", "low", "close")},
                   "volume": r.values["volume"], "given": True},
    ),
    "dividends": Store(
        Dividend, "underlying", ("date",),
        lambda r: {"date": r.date, "amount": Decimal(str(round(r.values["amount"], 4)))},
    ),
    "splits": Store(Split, "underlying", ("date",), lambda r: {"date": r.date, "ratio": r.values["ratio"]}),
    "events": Store(
        MarketEvent, "underlying", ("date", "event"), lambda r: {"date": r.date, "event": r.values["event"], "at": r.at}
    ),
    "rates": Store(
        Rate, "currency", ("date", "days"),
        lambda r: {"date": r.date, "days": r.values["days"], "rate": r.values["rate"]},
    ),
    "series": Store(
        SeriesValue, "series", ("date", "at"), lambda r: {"date": r.date, "at": r.at or 0, "value": r.values["value"]}
    ),
}  # fmt: skip
INTRADAY = Store(IntradayBars, "underlying", ("date",), lambda r: {})


class Keeper:
    """Stores the records of one intake; counts what was new, changed and there already."""

    def __init__(self, intake: Intake, kind: str, make_underlying: Callable[[str], Underlying]) -> None:
        self.intake = intake
        self.kind = kind
        self.store = STORES[kind]
        self.make_underlying = make_underlying
        self._owners: dict[str, Any] = {}

    def keep(self, records: Iterable[Record]) -> dict[str, dict[str, Any]]:
        """Store a block; gives counts by subject."""
        counts: dict[str, dict[str, Any]] = {}
        by_subject: dict[str, list[Record]] = {}
        for record in records:
            by_subject.setdefault(record.subject, []).append(record)
        for subject, mine in by_subject.items():
            within = [r for r in mine if r.at is not None] if self.kind == "bars" else []
            whole = [r for r in mine if not (self.kind == "bars" and r.at is not None)]
            rows = [self.store.row(record) for record in whole]
            count = self._put(self.store, subject, rows)
            if within:
                more = self._put(INTRADAY, subject, self._sessions(subject, within))
                count = {name: count[name] + more[name] for name in count}
            dates = [record.date.isoformat() for record in mine]
            counts[subject] = {**count, "empty": 0, "quotes": len(mine), "first": min(dates), "last": max(dates)}
        return counts

    def _owner(self, subject: str) -> Any:
        if subject not in self._owners:
            if self.store.owner == "currency":
                need_operator(self.intake.owner, "Interest rates")
                if len(subject) != 3 or not subject.isalpha():
                    raise Refused(f"'{subject}' is no currency; it has three letters, like EUR.")
                self._owners[subject] = subject
            elif self.store.owner == "series":
                self._owners[subject], _ = Series.objects.get_or_create(owner=self.intake.owner, name=subject)
            else:
                self._owners[subject] = self.make_underlying(subject)
        return self._owners[subject]

    def _sessions(self, subject: str, records: list[Record]) -> list[dict[str, Any]]:
        """Bars within sessions, joined to those that are there; the file's stand."""
        by_date: dict[dt.date, dict[int, tuple[int, ...]]] = {}
        for r in records:
            assert r.at is not None
            prices = [round(r.values[name] * 100) for name in ("open", "high", "low", "close")]
            volume = -1 if r.values["volume"] is None else r.values["volume"]
            by_date.setdefault(r.date, {})[r.at] = (r.at, *prices, volume)
        there = IntradayBars.objects.filter(underlying=self._owner(subject), date__in=by_date)
        for row in there:
            by_date[row.date] = {int(bar["at"]): tuple(bar.tolist()) for bar in unpack(bytes(row.payload))} | by_date[
                row.date
            ]
        return [
            {"date": date, "count": len(bars), "payload": pack(np.array(list(bars.values()), BAR))}
            for date, bars in by_date.items()
        ]

    def _put(self, store: Store, subject: str, rows: list[dict[str, Any]]) -> dict[str, int]:
        count = {"new": 0, "changed": 0, "same": 0}
        if not rows:
            return count
        owner = self._owner(subject)
        scope = {store.owner: owner}
        objects = store.model._default_manager
        there = {
            _key(store, row): row
            for row in objects.filter(**scope, date__gte=min(r["date"] for r in rows), date__lte=max(r["date"] for r in rows))
        }  # fmt: skip
        new, changed, changes = [], [], []
        for values in rows:
            key = tuple(values[name] for name in store.key)
            old = there.get(key)
            place = json.dumps([store.model.__name__, subject, *map(str, key)])
            if old is None:
                made = store.model(**scope, **values)
                new.append(made)
                there[key] = made
                changes.append(DatedChange(intake=self.intake, key=place, before=None))
                continue
            before = {name: getattr(old, name) for name in values}
            if all(_same(before[name], values[name]) for name in values):
                count["same"] += 1
                continue
            changes.append(DatedChange(intake=self.intake, key=place, before={n: _plain(v) for n, v in before.items()}))
            for name, value in values.items():
                setattr(old, name, value)
            if old.pk is not None:
                changed.append(old)
        objects.bulk_create(new, batch_size=2000)
        if changed:
            objects.bulk_update(changed, [n for n in rows[0] if n not in store.key], batch_size=1000)
        # what was there before the first try is what counts
        DatedChange.objects.bulk_create(changes, batch_size=2000, ignore_conflicts=True)
        return {**count, "new": len(new), "changed": len(changed)}


def _key(store: Store, row: Any) -> tuple[Any, ...]:
    return tuple(getattr(row, name) for name in store.key)


def _same(a: Any, b: Any) -> bool:
    if isinstance(a, memoryview | bytes):
        return bytes(a) == bytes(b)
    return bool(a == b)


def _plain(value: Any) -> Any:
    if isinstance(value, memoryview | bytes):
        return base64.b64encode(bytes(value)).decode()
    return value if isinstance(value, int | float | bool) or value is None else str(value)


_MODELS = {store.model.__name__: store for store in (*STORES.values(), INTRADAY)}


def resting_on(kind: str, subjects: Iterable[str]) -> list[Underlying]:
    """Underlyings whose history rests on facts of a kind about some subjects."""
    if kind == "rates":
        return list(Underlying.objects.filter(currency__in=subjects))
    return list(Underlying.objects.filter(symbol__in=subjects)) if kind in ("dividends", "bars", "splits") else []


@transaction.atomic
def put_back(intake: Intake) -> int:
    """Undo what an intake of dated facts changed; gives how many facts that were."""
    changes = list(intake.changes.all())
    for change in reversed(changes):
        name, subject, *key = json.loads(change.key)
        store = _MODELS[name]
        owner: dict[str, Any] = (
            {"currency": subject}
            if store.owner == "currency"
            else {"series__owner": intake.owner, "series__name": subject}
            if store.owner == "series"
            else {"underlying__symbol": subject}
        )
        found = store.model._default_manager.filter(**owner, **dict(zip(store.key, key, strict=True)))
        if change.before is None:
            found.delete()
        else:
            before = dict(change.before)
            if "payload" in before:
                before["payload"] = base64.b64decode(before["payload"])
            found.update(**{n: v for n, v in before.items() if n not in store.key})
    intake.changes.all().delete()
    Series.objects.of(intake.owner).filter(values=None).delete()
    return len(changes)


# -- told and written out
def facts_of(row: Underlying, kind: str) -> list[dict[str, Any]]:
    """Everything of one kind that is known of an underlying, oldest first."""
    local = calendar_for(row).local
    if kind == "bars":
        return [
            {"date": b.date, "open": b.open / 100, "high": b.high / 100, "low": b.low / 100, "close": b.close / 100,
             "volume": b.volume, "given": b.given}
            for b in row.bars.all()
        ]  # fmt: skip
    if kind == "intraday":
        out: list[dict[str, Any]] = []
        for session in row.intraday_bars.all():
            out += [
                {"at": local(int(b["at"])).isoformat(), "open": b["open"] / 100, "high": b["high"] / 100,
                 "low": b["low"] / 100, "close": b["close"] / 100, "volume": None if b["volume"] < 0 else int(b["volume"])}
                for b in unpack(bytes(session.payload))
            ]  # fmt: skip
        return out
    if kind == "dividends":
        return [{"date": d.date, "amount": float(d.amount)} for d in row.dividends.all()]
    if kind == "splits":
        return [{"date": s.date, "ratio": s.ratio} for s in row.splits.all()]
    if kind == "events":
        return [
            {"date": e.date, "at": None if e.at is None else local(e.at).isoformat(), "event": e.event}
            for e in row.events.all()
        ]  # fmt: skip
    raise NotThere(f"There are no {kind}; ask for bars, intraday, dividends, splits or events.")


def rates_of(currency: str) -> list[dict[str, Any]]:
    rows = Rate.objects.filter(currency=currency.upper()).values("date", "days", "rate")
    found = [dict(row) for row in rows]
    if not found:
        raise NotThere(f"There are no interest rates in {currency}.")
    return found


def series_of(user: User, name: str) -> list[dict[str, Any]]:
    series = Series.objects.of(user).filter(name=name.upper()).first()
    if series is None:
        raise NotThere(f"You have no series {name}.")
    return [
        {"date": v.date, "at": None if v.at == 0 else dt.datetime.fromtimestamp(v.at, dt.UTC).isoformat(), "value": v.value}
        for v in series.values.all()
    ]  # fmt: skip


def as_csv(rows: list[dict[str, Any]]) -> str:
    """Rows as RFC 4180 text, which :mod:`strell_core.formats.intake.dated` reads again."""
    out = io.StringIO()
    writer = csv.DictWriter(out, list(rows[0]) if rows else [], lineterminator="\r\n")
    writer.writeheader()
    writer.writerows({name: "" if value is None else marked(value) for name, value in row.items()} for row in rows)
    return out.getvalue()


def beside(row: Underlying) -> dict[str, int]:
    """How much of each kind is known beside the chains."""
    return {
        "bars": row.bars.filter(given=True).count(), "intraday": row.intraday_bars.count(),
        "dividends": row.dividends.count(), "splits": row.splits.count(), "events": row.events.count(),
    }  # fmt: skip


def others(user: User) -> dict[str, list[dict[str, Any]]]:
    """Interest rates and one's own series, with what there is of each."""
    spans = models.Count("pk"), models.Min("date"), models.Max("date")
    rates = Rate.objects.order_by("currency").values("currency").annotate(count=spans[0], first=spans[1], last=spans[2])
    series = Series.objects.of(user).annotate(
        count=models.Count("values"), first=models.Min("values__date"), last=models.Max("values__date")
    )
    return {
        "rates": [{"name": r["currency"], "count": r["count"], "first": r["first"], "last": r["last"]} for r in rates],
        "series": [{"name": s.name, "count": s.count, "first": s.first, "last": s.last} for s in series],
    }  # fmt: skip


@transaction.atomic
def set_dividends(user: User, symbol: str, paid: dict[dt.date, float]) -> list[dict[str, Any]]:
    """All dividends of an underlying, by day, in place of those that are there."""
    row = row_of(symbol)
    need_change(user, row)
    if any(not 0 < amount <= MOST_DIVIDEND for amount in paid.values()):
        raise Refused(f"A dividend is more than 0 and at most {MOST_DIVIDEND:g}.")
    row.dividends.all().delete()
    Dividend.objects.bulk_create(Dividend(underlying=row, date=day, amount=round(x, 4)) for day, x in paid.items())
    refresh_later(row)
    return [dict(paid) for paid in row.dividends.values("date", "amount")]


@transaction.atomic
def drop(user: User, symbol: str, kind: str, date: dt.date, what: str = "") -> None:
    """Take one fact out."""
    row = row_of(symbol)
    if kind not in ("dividends", "splits", "events"):
        raise Refused("Dividends, splits and events are taken out one by one; bars with their file.")
    need_change(user, row)
    found = STORES[kind].model._default_manager.filter(underlying=row, date=date)
    if what:
        found = found.filter(event=what)
    if not found.delete()[0]:
        raise NotThere(f"There is nothing of that kind on {date:%-d %b %Y}.")
    if resting_on(kind, [symbol]):
        refresh_later(row)
