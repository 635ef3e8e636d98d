"""The last gate: what must hold in the very transaction that claims an order for sending."""

from __future__ import annotations

from desk.models import Connection, DeskOrder
from desk.services import terms_of
from desk.tickets import Judged, Ticket, judge
from venue.clock import market_now, venue_of

NAME = "practice broker"


def refusal(order: DeskOrder) -> str | None:
    """Why an order may not go out now; ``None``: it may. The order's and account's rows are locked."""
    account = order.account
    if not order.alive:
        return f"it is {order.state} already"
    if order.expires_market is not None and market_now(venue_of(account.underlying.symbol)) > order.expires_market:
        return "its intent has expired"
    if order.opens and order.by == "rule" and not (order.deployment and order.deployment.armed):
        return "its deployment is not armed"
    judged = judge_again(order)
    # what it closes counts as being closed by itself, and the capital it takes is reserved for it
    problems = [text for place, text in judged.problems if place not in ("lots", "capital")]
    return " ".join(problems) if problems else None


def judge_again(order: DeskOrder) -> Judged:
    terms = terms_of(order)
    limit = None if terms.limit is None else terms.limit * order.account.underlying.quantum
    legs = [(code, ratio) for code, ratio in order.legs]
    holding = None if order.opens else order.holding_id
    return judge(
        order.account,
        Ticket(
            legs,
            order.lots,
            order.type,
            limit,
            order.time_in_force,
            holding,
            changes=order.holding_id if order.changes else None,
        ),
        order.by,
        order.deployment,
    )


def line_is_ready() -> bool:
    """Signed on, and positions agreed since: before that nothing is sent."""
    return Connection.objects.filter(name=NAME, up=True, reconciled=True).exists()
