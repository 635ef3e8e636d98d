"""What data there is: coverage by day, gaps, quality, storage; taking ranges out and writing them out."""

from __future__ import annotations

import datetime as dt
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import Count, F, Max, Min, Sum

from config.errors import Conflict, NotThere, Refused
from facts import dated
from facts import terms as contract_terms
from market.ask import refresh_later
from market.calendars import calendar_for
from market.models import Removal, SessionChainRow, Underlying, Venue
from market.rights import may_change, need_change
from market.terms import row_of, terms
from strell_core.formats.intake import export
from strell_core.formats.intake.sessions import FINDINGS
from strell_core.market.chains import decode
from strell_core.market.extras import decode_extras

KINDS = {"csv": "text/csv", "parquet": "application/vnd.apache.parquet"}
MAX_GAPS = 60
MOST_QUOTES = 2_000_000
"""In one file: it is written while somebody waits, and ten million took a minute."""


def summary(user: User, row: Underlying) -> dict[str, Any]:
    """An underlying with its terms and what is there of it, and whether ``user`` may change it."""
    current = SessionChainRow.objects.filter(underlying=row, current=True)
    facts = current.aggregate(
        sessions=Count("id"), first=Min("date"), last=Max("date"), size=Sum("size"),
        quotes=Sum(F("contracts") * F("snapshots")), latest=Max("known_at"), extras_size=Sum("extras_size"),
    )  # fmt: skip
    quotes = facts["quotes"] or 0
    return {
        "symbol": row.symbol, "name": row.name, "kind": row.kind, "currency": row.currency, "multiplier": row.multiplier,
        "quantum": str(row.quantum.normalize()), "calendar": row.calendar, "zone": calendar_for(row).tz.key, "rate": row.rate,
        "american": row.american, "settles": f"at the {row.settles}", "traded": Venue.objects.filter(underlying=row).exists(),
        "first": facts["first"], "last": facts["last"], "sessions": facts["sessions"], "quotes": quotes, "size": facts["size"] or 0,
        "bytes_a_quote": round((facts["size"] or 0) / quotes, 2) if quotes else None, "known_at": facts["latest"],
        "extras_a_quote": round((facts["extras_size"] or 0) / quotes, 2) if quotes else None,
        "beside": dated.beside(row), "periods": contract_terms.periods(row),
        "mine": row.owner_id == user.pk, "shared": row.owner_id is None, "may_change": may_change(user, row),
    }  # fmt: skip


def summaries(user: User) -> list[dict[str, Any]]:
    return [summary(user, row) for row in Underlying.objects.order_by("symbol")]


def coverage(user: User, symbol: str) -> dict[str, Any]:
    """Each session with what is there of it, and sessions of the calendar that are missing between."""
    row = row_of(symbol)
    current = SessionChainRow.objects.filter(underlying=row, current=True).order_by("date")
    days = [
        {
            "date": date, "snapshots": snapshots, "contracts": contracts, "version": version,
            "doubtful": sum(count for name, count in (findings or {}).items() if name not in ("no bid", "no quote")) + crossed,
        }
        for date, snapshots, contracts, version, findings, crossed in current.values_list(
            "date", "snapshots", "contracts", "version", "findings", "crossed"
        )
    ]  # fmt: skip
    found: dict[str, int] = {}
    for findings in current.values_list("findings", flat=True):
        for name, count in (findings or {}).items():
            found[name] = found.get(name, 0) + count
    crossed = current.aggregate(total=Sum("crossed"))["total"] or 0
    quality = [{"what": FINDINGS[name], "count": found[name]} for name in FINDINGS if found.get(name)]
    if crossed:
        quality.insert(0, {"what": "crossed quotes, kept and never traded on", "count": crossed})
    return {
        **summary(user, row), "days": days, "gaps": _gaps(row, [day["date"] for day in days]), "quality": quality,
        "most_quotes": MOST_QUOTES, "removals": [removal_facts(r) for r in row.removals.filter(undone_at=None)[:5]],
    }  # fmt: skip


def _gaps(row: Underlying, dates: list[dt.date]) -> list[dict[str, Any]]:
    """Stretches of the calendar without a session."""
    if not dates:
        return []
    have, out = set(dates), []
    run: list[dt.date] = []
    for date in calendar_for(row).between(dates[0], dates[-1]):
        if date in have:
            if run:
                out.append({"start": run[0], "end": run[-1], "sessions": len(run)})
            run = []
        else:
            run.append(date)
    return out[-MAX_GAPS:]


def removal_facts(removal: Removal) -> dict[str, Any]:
    return {
        "id": removal.pk, "symbol": removal.underlying.symbol, "start": removal.start, "end": removal.end, "at": removal.at,
        "sessions": len(removal.chains),
    }  # fmt: skip


def _range(row: Underlying, start: dt.date, end: dt.date) -> Any:
    if end < start:
        raise Refused("The range ends before it starts.", [{"path": "end", "message": "before the start"}])
    found = SessionChainRow.objects.filter(underlying=row, current=True, date__gte=start, date__lte=end)
    if not found.exists():
        raise Refused(f"There is no session of {row.symbol} from {start:%-d %b %Y} to {end:%-d %b %Y}.")
    return found.order_by("date")


@transaction.atomic
def remove(user: User, symbol: str, start: dt.date, end: dt.date) -> Removal:
    """Take sessions out of the data. Nothing is deleted: it can be undone, and runs keep what they used."""
    row = Underlying.objects.select_for_update(no_key=True).get(pk=row_of(symbol).pk)
    need_change(user, row)
    if Venue.objects.filter(underlying=row).exists():
        raise Conflict(f"{symbol} is traded at the practice exchange; its history stays.")
    found = _range(row, start, end)
    keys = list(found.values_list("pk", flat=True))
    removal = Removal.objects.create(owner=user, underlying=row, start=start, end=end, chains=keys)
    SessionChainRow.objects.filter(pk__in=keys).update(current=False)
    refresh_later(row)
    return removal


@transaction.atomic
def restore(user: User, removal_id: int) -> Removal:
    """Undo a removal, except where newer sessions have come since."""
    removal = Removal.objects.of(user).select_for_update(no_key=True).filter(pk=removal_id).first()
    if removal is None:
        raise NotThere("There is no such removal.")
    if removal.undone_at is not None:
        raise Conflict("It was undone already.")
    row = removal.underlying
    need_change(user, row)
    there = set(SessionChainRow.objects.filter(underlying=row, current=True).values_list("date", flat=True))
    SessionChainRow.objects.filter(pk__in=removal.chains).exclude(date__in=there).update(current=True)
    removal.undone_at = dt.datetime.now(dt.UTC)
    removal.save(update_fields=["undone_at"])
    refresh_later(row)
    return removal


def written(symbol: str, start: dt.date, end: dt.date, kind: str) -> tuple[Path, str]:
    """A range of sessions as a file of its own, which the caller deletes; and what to call it."""
    if kind not in KINDS:
        raise Refused(f"Data is written as {' or '.join(KINDS)}.", [{"path": "kind", "message": "unknown"}])
    row = row_of(symbol)
    found = _range(row, start, end)
    quotes = found.aggregate(n=Sum(F("contracts") * F("snapshots")))["n"] or 0
    if quotes > MOST_QUOTES:
        raise Refused(
            f"This range has {quotes / 1e6:.1f} million quotes; at most {MOST_QUOTES / 1e6:g} million are written at once. "
            "Take a shorter range, several times.",
            [{"path": "end", "message": "too many quotes"}],
        )
    calendar, known = calendar_for(row), terms(row)

    def tables() -> Iterator[Any]:
        for payload, extras in found.values_list("payload", "extras").iterator(chunk_size=4):
            yield export.table(decode(bytes(payload)), known, calendar, decode_extras(bytes(extras)))

    with tempfile.NamedTemporaryFile(prefix="strell-", suffix=f".{kind}", delete=False) as file:
        path = Path(file.name)
    export.write(path, tables(), kind)
    return path, f"{symbol}-{start}-{end}.{kind}"
