"""A venue's clock: what time it is there, and who may move it."""

from __future__ import annotations

import datetime as dt
import time

from django.conf import settings
from django.contrib.auth.models import User
from django.db import transaction

from config.errors import Conflict, Forbidden, NotThere, Refused
from config.push import notify_market
from market.calendars import calendar_for
from market.models import Underlying, Venue
from strell_core.market.calendars import Session

RATES = (1, 2, 5, 10, 20, 30, 60)
PRACTICE = "practice exchange"
STALE_SECONDS = settings.STALE_SECONDS
"""Wall seconds after which a running market's quotes are old."""
SILENT_SECONDS = 6
"""Wall seconds a clock runs on without a word of its market."""


def venue_of(symbol: str) -> Venue:
    found = Venue.objects.with_terms().filter(underlying__symbol=symbol).first()
    if found is None:
        raise NotThere(f"No market is connected for {symbol}.")
    return found


def session_of(venue: Venue) -> Session:
    return calendar_for(venue.underlying).session(venue.session)


def market_now(venue: Venue) -> int:
    """Market time now, epoch seconds; never past the session's close, never before what was published, and
    not much later either: a market that says nothing stands, and goes on from there."""
    if not venue.running:
        return venue.reached
    ran = venue.market_anchor + venue.rate * (time.time() - venue.wall_anchor)
    silent = venue.reached + venue.rate * SILENT_SECONDS
    return max(venue.reached, min(int(ran), int(silent), session_of(venue).close))


def is_open(venue: Venue) -> bool:
    session = session_of(venue)
    return session.open <= market_now(venue) < session.close


def traded_since(venue: Venue, instant: int) -> int:
    """Seconds of sessions from an instant, which lies in one, until now."""
    calendar, now = calendar_for(venue.underlying), market_now(venue)
    since, today = calendar.local(instant).date(), session_of(venue)
    if since >= today.date:
        return max(0, now - instant)
    begun = calendar.session(since)
    between = (one for one in calendar.sessions if since < one.date < today.date)
    whole = sum(one.close - one.open for one in between)
    return max(0, begun.close - instant) + whole + max(0, now - today.open)


def open_venue(underlying: Underlying, scenario: dict[str, object], session: dt.date, at: int) -> Venue:
    """Connect the practice exchange to an underlying, standing at ``at``."""
    return Venue.objects.create(
        name=PRACTICE, underlying=underlying, scenario=scenario, session=session, reached=at, market_anchor=at,
        wall_anchor=time.time(),
    )  # fmt: skip


def anchor(venue: Venue, at: int | None = None) -> None:
    """Let the clock go on from where the market stands, or from ``at``, now."""
    venue.market_anchor, venue.wall_anchor = float(venue.reached if at is None else at), time.time()


def _held(user: User, symbol: str) -> Venue:
    if not user.is_staff:
        raise Forbidden("Only who operates the practice exchange may move its clock.")
    venue_of(symbol)
    return Venue.objects.select_for_update(of=["self"], no_key=True).with_terms().get(underlying__symbol=symbol)


def _settle(venue: Venue) -> Venue:
    venue.save()
    notify_market(venue.underlying.symbol, "clock")
    return venue


@transaction.atomic
def run(user: User, symbol: str, rate: float | None = None) -> Venue:
    venue = _held(user, symbol)
    if venue.sealed:
        raise Conflict("The session is over. Go on to the next one.")
    if rate is not None:
        if rate not in RATES:
            raise Refused(f"The clock runs {', '.join(f'{r}x' for r in RATES)}, not {rate:g}x.")
        venue.rate = float(rate)
    venue.running = True
    anchor(venue)
    return _settle(venue)


@transaction.atomic
def pause(user: User, symbol: str) -> Venue:
    venue = _held(user, symbol)
    venue.running = False
    return _settle(venue)


@transaction.atomic
def jump(user: User, symbol: str, to: dt.time) -> Venue:
    """Go on to a later time of the session; every snapshot between is recorded on the way."""
    venue = _held(user, symbol)
    if venue.sealed:
        raise Conflict("The session is over. Go on to the next one.")
    session, calendar = session_of(venue), calendar_for(venue.underlying)
    wanted = calendar.instant(venue.session, to)
    if not session.open <= wanted <= session.close:
        opens, closes = (calendar.local(at).strftime("%H:%M") for at in (session.open, session.close))
        raise Refused(f"{to:%H:%M} lies outside the session, {opens} to {closes}.")
    if wanted <= market_now(venue):
        raise Refused(f"It is later than {to:%H:%M} already, and market time never runs back.")
    venue.jump_to = wanted
    return _settle(venue)


@transaction.atomic
def next_session(user: User, symbol: str) -> Venue:
    """Open the next session. Only after the one before is over and recorded."""
    venue = _held(user, symbol)
    if not venue.sealed:
        raise Conflict("The session is not over yet. Jump to its close first.")
    calendar = calendar_for(venue.underlying)
    following = calendar.between(venue.session + dt.timedelta(days=1), venue.session + dt.timedelta(days=30))
    venue.session, venue.generation, venue.sealed = following[0], venue.generation + 1, False
    venue.reached = calendar.session(venue.session).open
    venue.jump_to = None
    anchor(venue)
    return _settle(venue)


@transaction.atomic
def hush(user: User, symbol: str, quiet: bool) -> Venue:
    """Play a fault: the exchange's clock goes on and its quotes do not."""
    venue = _held(user, symbol)
    venue.quiet = quiet
    return _settle(venue)
