"""Paper: the desk is the venue. Orders are accepted, matched on published quotes, and expire."""

from __future__ import annotations

from django.db import transaction

from desk import book
from desk.leader import still_leading
from desk.locks import locked_order
from desk.models import PAPER, DeskOrder
from desk.services import terms_of
from market.models import Venue
from strell_core.market.instruments import ContractKey
from strell_core.orders.matching import Taken, match
from venue.clock import is_open, market_now, session_of
from venue.live import Live

State = DeskOrder.State


def accept(epoch: int, venue: Venue) -> int:
    """Bring new paper orders to work; how many there were."""
    ready = DeskOrder.objects.filter(
        account__kind=PAPER, account__underlying=venue.underlying, state=State.READY
    ).order_by("id")  # fmt: skip
    count = 0
    for key in ready.values_list("pk", flat=True):
        with transaction.atomic():
            still_leading(epoch)
            order = locked_order(key)
            if order.state == State.READY:
                now = market_now(venue)
                book.move_to(order, State.WORKING, "desk", f"Order {order.pk} is working", now)
                count += 1
    return count


def match_all(epoch: int, venue: Venue, now: Live) -> int:
    """Match working paper orders, the oldest first, on quotes that nobody took yet; how many filled."""
    if now.session != venue.session or not is_open(venue) or venue.quiet:
        return 0
    working = DeskOrder.objects.filter(
        account__kind=PAPER, account__underlying=venue.underlying, state__in=DeskOrder.AT_VENUE
    ).order_by("arrived_market", "id")  # fmt: skip
    taken: dict[int, Taken] = {}
    count = 0
    for key, account in list(working.values_list("pk", "account_id")):
        with transaction.atomic():
            still_leading(epoch)
            order = locked_order(key)
            if order.state not in DeskOrder.AT_VENUE or order.arrived_market is None:
                continue
            terms = terms_of(order)
            quotes = now.quotes({leg.contract for leg in terms.legs})
            found = match(terms, order.left, order.arrived_market, quotes, taken.setdefault(account, Taken()))
            if found is None:
                continue
            execution = f"paper {order.pk}-{order.filled + found.lots}"
            book.book_fill(order, execution, now.at, found.lots, found.prices, "market")
            count += 1
    return count


def expire(epoch: int, venue: Venue) -> None:
    """Day orders end with their session; what has expired or settled cannot be dealt any more."""
    alive = DeskOrder.objects.filter(
        account__kind=PAPER, account__underlying=venue.underlying, state__in=DeskOrder.ALIVE
    )  # fmt: skip
    over = venue.sealed or not is_open(venue)
    for order in alive.only("pk", "session", "time_in_force", "legs"):
        ended = order.time_in_force == "day" and (order.session != venue.session or over)
        last = min(ContractKey.parse(code).expiration for code, _ in order.legs)
        expired = last < venue.session or (over and last == venue.session)
        if not ended and not expired:
            continue
        with transaction.atomic():
            still_leading(epoch)
            held = locked_order(order.pk)
            reason = "the session is over" if ended else "a contract has expired"
            book.end(held, State.EXPIRED, "market", reason, session_of(venue).close if over else market_now(venue))
