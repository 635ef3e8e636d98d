"""Timelines for computing: opened from the local cache, which is built from the database when needed."""

from __future__ import annotations

import datetime as dt
import fcntl
import hashlib
import shutil
import threading
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from django.conf import settings

from config.errors import NotThere, Refused
from market import calendars
from market.models import SessionChainRow, Underlying
from market.sizes import sizes_of
from market.terms import terms
from strell_core.formats import cubes
from strell_core.market.chains import SessionChain, decode
from strell_core.market.timeline import Timeline

_open: dict[str, Timeline] = {}
_lock = threading.Lock()


def timeline(symbol: str) -> Timeline:
    """The current history of an underlying; raises :class:`NotThere` without data."""
    row = Underlying.objects.filter(symbol=symbol).first()
    if row is None or not row.data_digest:
        raise NotThere(f"There is no data for {symbol}. Load it, or choose another underlying.")
    with _lock:
        known = _open.get(symbol)
        if known is None or known.digest != row.data_digest:
            _open[symbol] = known = _open_cache(row)
    return known


def _folder(row: Underlying) -> Path:
    return settings.CHAIN_CACHE / f"{row.symbol}-{cubes.LAYOUT}-{row.data_digest[:20]}"


def fold_in(row: Underlying) -> None:
    """Bring the history up to the chains that are there: the new cache is built before anyone is sent to it."""
    row.data_digest = data_digest(row)
    _build(row, _folder(row))
    Underlying.objects.filter(pk=row.pk).update(data_digest=row.data_digest)
    _evict_others(row, _folder(row))


def _open_cache(row: Underlying) -> Timeline:
    folder = _folder(row)
    if _build(row, folder):
        _evict_others(row, folder)
    opened = cubes.open_timeline(folder, terms(row), calendars.calendar_for(row))
    opened.sizes = sizes_of(row, opened.calendar)
    return opened


def _build(row: Underlying, folder: Path) -> bool:
    """Whether the cache had to be built."""
    made = False
    if not (folder / "index.json").exists():
        settings.CHAIN_CACHE.mkdir(parents=True, exist_ok=True)
        with open(settings.CHAIN_CACHE / f"{row.symbol}.lock", "w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            if not (folder / "index.json").exists():
                cubes.build(folder, lambda: _chains(row), terms(row), calendars.calendar_for(row), row.data_digest)
                made = True
    return made


def _evict_others(row: Underlying, keep: Path) -> None:
    """Caches of older data of the same underlying are rebuilt from the database if ever needed."""
    for other in settings.CHAIN_CACHE.glob(f"{row.symbol}-*"):
        if other != keep:
            shutil.rmtree(other, ignore_errors=True)


def _chains(row: Underlying) -> Iterator[SessionChain]:
    rows = SessionChainRow.objects.filter(underlying=row, current=True).order_by("date")
    for payload in rows.values_list("payload", flat=True).iterator(chunk_size=8):
        yield decode(bytes(payload))


def digest_until(symbol: str, end: dt.date) -> str:
    """As :func:`data_digest`, of the sessions up to a day; raises :class:`NotThere` for a symbol that is not known."""
    row = Underlying.objects.filter(symbol=symbol).first()
    if row is None:
        raise NotThere(f"There is no data for {symbol}.")
    return data_digest(row, end)


def data_digest(row: Underlying, end: dt.date | None = None) -> str:
    """Identity of what a history rests on: all current chains (up to ``end``) with what was told beside them, every term by date, interest,
    dividends, splits, calendars. A name is none of it."""
    known = terms(row)
    whole = hashlib.sha256(repr((replace(known, name=""), known.rates.dates, known.rates.curves)).encode())
    if known.events:
        whole.update(repr(known.events).encode())
    whole.update(calendars.identity(row).encode())
    current = SessionChainRow.objects.filter(underlying=row, current=True).order_by("date")
    if end is not None:
        current = current.filter(date__lte=end)
    for date, digest, version, beside in current.values_list("date", "digest", "version", "extras_size"):
        # what was told beside the quotes, sizes among it, is known by the version that told it
        whole.update(f"{date}{digest}{f'+{version}' if beside else ''}".encode())
    return whole.hexdigest()


def instant_of(history: Timeline, text: str | None) -> int:
    """Timeline index of an exchange-local date and time like ``2026-11-04T15:45`` (the last snapshot
    not after it); the last decision-worthy snapshot without one."""
    if not text:
        return len(history.times) - 1
    try:
        when = dt.datetime.fromisoformat(text)
    except ValueError as error:
        raise Refused(f"'{text}' is not a date and time; write it like 2026-11-04T15:45.") from error
    at = history.calendar.instant(when.date(), when.time()) if when.tzinfo is None else int(when.timestamp())
    first, last = history.calendar.local(int(history.times[0])), history.calendar.local(int(history.times[-1]))
    if at < int(history.times[0]) or when.date() > last.date():
        raise Refused(
            f"There is no data at {when:%-d %b %Y %H:%M}: recorded is {first:%-d %b %Y} to {last:%-d %b %Y}.",
            [{"path": "at", "message": "outside the recorded history"}],
        )
    return history.at_or_before(at)
