"""Underlyings, sessions and chains."""

import datetime as dt
from typing import Annotated, Any

from django.db.models import Count, Max, Min, Sum
from ninja import Query, Router, Schema

from config.errors import NotThere
from market.calendars import calendar_for
from market.models import SessionChainRow, Underlying
from market.terms import terms
from market.timelines import timeline
from observe import services as observe
from observe.finding import contracts
from observe.schemas import ChainOut, FoundContract, SurfaceOut, WhatIfIn, WhatIfOut
from people.access import SignedRequest

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
    traded: bool
    """Whether the practice exchange plays its today."""
    delivers: bool
    """Whether exercised options deliver it; others settle in cash."""


class SessionOut(Schema):
    date: dt.date
    snapshots: int


class SnapshotOut(Schema):
    at: int
    local: str


@router.get("/contracts", response=list[FoundContract], operation_id="find_contracts")
def find_contracts(request: SignedRequest, text: str) -> list[dict[str, Any]]:
    """Contracts that a text like "3150 call Dec" may mean."""
    return contracts(text)


@router.get("/market/underlyings", response=list[UnderlyingOut], operation_id="underlyings")
def underlyings(request: SignedRequest) -> list[dict[str, Any]]:
    """Underlyings with chains, those with most sessions first."""
    out = []
    for row in Underlying.objects.exclude(data_digest="").select_related("venue").order_by("symbol"):
        current = SessionChainRow.objects.filter(underlying=row, current=True)
        facts = current.aggregate(n=Count("id"), first=Min("date"), last=Max("date"), crossed=Sum("crossed"))
        out.append(
            {
                "symbol": row.symbol, "name": row.name, "currency": row.currency, "multiplier": row.multiplier, "zone": calendar_for(row).tz.key,
                "first": facts["first"], "last": facts["last"], "sessions": facts["n"],
                "single": current.filter(snapshots=1).count(), "crossed": facts["crossed"] or 0,
                "traded": hasattr(row, "venue"), "delivers": terms(row).delivers,
            }
        )  # fmt: skip
    return sorted(out, key=lambda row: -row["sessions"])


@router.get("/market/{symbol}/sessions", response=list[SessionOut], operation_id="sessions")
def sessions(request: SignedRequest, symbol: str) -> list[dict[str, Any]]:
    rows = SessionChainRow.objects.filter(underlying__symbol=symbol, current=True).order_by("date")
    return [dict(row) for row in rows.values("date", "snapshots")]


@router.get("/market/{symbol}/sessions/{date}", response=list[SnapshotOut], operation_id="snapshots")
def snapshots(request: SignedRequest, symbol: str, date: dt.date) -> list[dict[str, Any]]:
    history = timeline(symbol)
    session = history.session_index(date)
    if session is None:
        raise NotThere(f"There is no recorded session of {symbol} on {date}.")
    times = history.times[history.first[session] : history.first[session + 1]].tolist()
    return [{"at": at, "local": history.calendar.local(at).strftime("%H:%M")} for at in times]


@router.get("/market/{symbol}/surface", response=SurfaceOut, operation_id="surface")
def surface(request: SignedRequest, symbol: str, at: str | None = None) -> dict[str, Any]:
    """Fitted curves of volatility of every expiration at an instant."""
    return observe.surface(symbol, at)


@router.get("/market/{symbol}/chain", response=ChainOut, operation_id="chain")
def chain(
    request: SignedRequest, symbol: str, at: str | None = None, expiration: str | None = None,
    each_side: Annotated[int, Query(ge=1, le=200)] = 12,
) -> dict[str, Any]:  # fmt: skip
    """One expiration's chain with values and chances by its fitted curve."""
    return observe.chain(symbol, at, expiration, each_side)


@router.post("/market/{symbol}/what-if", response=WhatIfOut, operation_id="what_if")
def what_if(request: SignedRequest, symbol: str, body: WhatIfIn) -> dict[str, Any]:
    """P/L of a structure by price, date and volatility."""
    legs = [observe.Held(leg.contract, leg.contracts, leg.opened) for leg in body.legs]
    return observe.what_if(
        symbol,
        body.at,
        legs,
        observe.Pull(body.price, body.when, body.vol, body.by_expiration, body.greek, body.moving),
    )
