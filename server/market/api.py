"""Underlyings, sessions and chains."""

import datetime as dt

from django.db.models import Count, Max, Min, Sum
from django.http import HttpRequest
from ninja import Router, Schema

from config.errors import NotThere
from market.models import SessionChainRow, Underlying
from market.timelines import calendar_of, timeline

router = Router(tags=["market"])


class UnderlyingOut(Schema):
    symbol: str
    name: str
    currency: str
    multiplier: int
    zone: str
    first: dt.date | None
    last: dt.date | None
    sessions: int
    single: int
    crossed: int
    bytes_a_quote: float | None = None


class SessionOut(Schema):
    date: dt.date
    snapshots: int


class SnapshotOut(Schema):
    at: int
    local: str


@router.get("/market/underlyings", response=list[UnderlyingOut], operation_id="underlyings")
def underlyings(request: HttpRequest):
    out = []
    for row in Underlying.objects.exclude(data_digest="").order_by("symbol"):
        current = SessionChainRow.objects.filter(underlying=row, current=True)
        facts = current.aggregate(n=Count("id"), first=Min("date"), last=Max("date"), crossed=Sum("crossed"))
        out.append(
            {
                "symbol": row.symbol, "name": row.name, "currency": row.currency, "multiplier": row.multiplier, "zone": calendar_of(row.calendar).tz.key,
                "first": facts["first"], "last": facts["last"], "sessions": facts["n"],
                "single": current.filter(snapshots=1).count(), "crossed": facts["crossed"] or 0,
            }
        )  # fmt: skip
    return out


@router.get("/market/{symbol}/sessions", response=list[SessionOut], operation_id="sessions")
def sessions(request: HttpRequest, symbol: str):
    rows = SessionChainRow.objects.filter(underlying__symbol=symbol, current=True).order_by("date")
    return list(rows.values("date", "snapshots"))


@router.get("/market/{symbol}/sessions/{date}", response=list[SnapshotOut], operation_id="snapshots")
def snapshots(request: HttpRequest, symbol: str, date: dt.date):
    history = timeline(symbol)
    session = history.session_index(date)
    if session is None:
        raise NotThere(f"There is no recorded session of {symbol} on {date}.")
    times = history.times[history.first[session] : history.first[session + 1]].tolist()
    return [{"at": at, "local": history.calendar.local(at).strftime("%H:%M")} for at in times]
