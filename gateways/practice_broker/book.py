"""The practice broker's rules: accepting, matching, cancelling, replacing, positions. Every change is
committed with its report before anything is sent."""

from __future__ import annotations

import dataclasses
import datetime as dt
import uuid
from collections import Counter
from typing import Any

from django.db import transaction

from config.errors import Conflict, NotThere
from config.faults import boundary
from fix44.messages import Wire
from practice_broker import accounts
from practice_broker.models import BrokerExecution, BrokerFault, BrokerName, BrokerOrder
from strell_core.market.instruments import ContractKey
from strell_core.orders.matching import Taken, match
from strell_core.orders.order import Leg, OrderType, Terms, TimeInForce
from venue.clock import is_open, market_now, session_of, venue_of
from venue.live import Live, live

STATUS = {"new": "0", "partial": "1", "filled": "2", "cancelled": "4", "rejected": "8", "expired": "C"}
DELAY = dt.timedelta(seconds=8)


def terms(order: BrokerOrder) -> Terms:
    legs = tuple(Leg(ContractKey.parse(code), ratio) for code, ratio in order.legs)
    return Terms(legs, order.lots, OrderType(order.type), order.limit, TimeInForce(order.time_in_force))


def _closes(order: BrokerOrder) -> bool:
    """Whether the account holds the other way round all that is still to be dealt."""
    held = positions(order.account, order.symbol)
    return all(
        ratio * held.get(code, 0) < 0 and abs(ratio) * order.left <= abs(held[code]) for code, ratio in order.legs
    )


def played(kind: str) -> bool:
    """Whether a fault of this kind is due; it is used up by asking."""
    row = BrokerFault.objects.select_for_update(no_key=True).filter(kind=kind, left__gt=0).order_by("id").first()
    if row is None:
        return False
    row.left -= 1
    row.save()
    return True


def report(order: BrokerOrder, kind: str, now: int, **more: Any) -> BrokerExecution:
    exec_id = uuid.uuid4().hex[:24]
    facts = {
        "order_id": f"PB{order.pk}", "cl_ord_id": order.names[-1], "exec_id": exec_id, "exec_type": kind,
        "status": STATUS[order.state], "account": order.account, "symbol": order.symbol, "filled": order.filled,
        "left": order.left if order.state in BrokerOrder.ALIVE else 0, "market_at": now, "limit": order.limit, **more,
    }  # fmt: skip
    return BrokerExecution.objects.create(order=order, exec_id=exec_id, account=order.account, report=facts)


def _nothing(wire: Wire, kind: str, now: int, text: str, **more: Any) -> BrokerExecution:
    """A report on an order that is not in the book."""
    exec_id = uuid.uuid4().hex[:24]
    facts = {
        "order_id": "NONE", "cl_ord_id": wire.cl_ord_id, "exec_id": exec_id, "exec_type": kind, "status": "8",
        "account": wire.account, "symbol": wire.symbol, "filled": 0, "left": 0, "market_at": now, "text": text, **more,
    }  # fmt: skip
    return BrokerExecution.objects.create(exec_id=exec_id, account=wire.account, report=facts)


@transaction.atomic
def accept(wire: Wire) -> None:
    """Take a new order, or reject it with the reason. An id that was used is rejected as a duplicate."""
    venue = venue_of(wire.symbol)
    now = market_now(venue)
    if not accounts.known(wire.account):
        _nothing(wire, "8", now, "unknown account")
        return
    taken, made = BrokerName.objects.get_or_create(name=wire.cl_ord_id)
    if not made:
        _nothing(wire, "8", now, "duplicate client order id", duplicate=True)
        return
    order = BrokerOrder(
        account=wire.account, names=[wire.cl_ord_id], symbol=wire.symbol, legs=[list(leg) for leg in wire.legs], lots=wire.lots,
        type=wire.type, limit=wire.limit, time_in_force=wire.time_in_force, session=venue.session, arrived=now,
    )  # fmt: skip
    problem = "rejected on demand" if played("reject") else _problem(order, venue, now)
    if problem:
        order.state = "rejected"
    elif played("delay"):
        order.not_before = dt.datetime.now(dt.UTC) + DELAY
    order.save()
    taken.order = order
    taken.save()
    report(order, "8" if problem else "0", now, text=problem)
    boundary("broker: order not committed")


def _problem(order: BrokerOrder, venue: Any, now: int) -> str:
    if not is_open(venue) and order.time_in_force == "day":
        return "the session is closed"
    quotes = live(order.symbol)
    for code, _ in order.legs:
        contract = ContractKey.parse(code)
        if quotes.row_of(contract) is None:
            return f"{contract.label} is not listed"
        cube = quotes.timeline.cubes[contract.expiration]
        if now > cube.settlement_at - 60 * quotes.timeline.underlying.last_trade_minutes:
            return f"{contract.label} is no longer traded"
    return ""


def _find(name: str) -> BrokerOrder | None:
    row = BrokerName.objects.filter(name=name).first()
    return (
        None
        if row is None or row.order_id is None
        else BrokerOrder.objects.select_for_update(no_key=True).get(pk=row.order_id)
    )


@transaction.atomic
def cancel(wire: Wire) -> str | None:
    """Cancel an order; why not, or ``None``."""
    order, why = _changeable(wire)
    if order is None:
        return why
    order.state = "cancelled"
    order.save()
    report(order, "4", market_now(venue_of(order.symbol)), original=wire.original)
    return None


@transaction.atomic
def replace(wire: Wire) -> str | None:
    """Give an order another price; why not, or ``None``."""
    order, why = _changeable(wire)
    if order is None:
        return why
    order.limit, order.arrived = wire.limit, market_now(venue_of(order.symbol))
    order.save()
    report(order, "5", order.arrived, original=wire.original)
    return None


def _changeable(wire: Wire) -> tuple[BrokerOrder | None, str]:
    """The order that a request is about, known by the request's id from now on; or why it cannot be changed."""
    order = _find(wire.original)
    if order is None or order.account != wire.account:
        return None, "unknown order"
    if order.state not in BrokerOrder.ALIVE:
        return None, f"too late: {order.state}"
    BrokerName.objects.get_or_create(name=wire.cl_ord_id, defaults={"order": order})
    order.names = [*order.names, wire.cl_ord_id]
    return order, ""


@transaction.atomic
def status(wire: Wire) -> None:
    now = market_now(venue_of(wire.symbol))
    order = _find(wire.cl_ord_id)
    if order is None or order.account != wire.account:
        _nothing(wire, "I", now, "unknown order", unknown_order=True)
    else:
        report(order, "I", now, cl_ord_id=wire.cl_ord_id)


def work() -> None:
    """Match and expire what is in the book, on the quotes of now."""
    for symbol in BrokerOrder.objects.filter(state__in=BrokerOrder.ALIVE).values_list("symbol", flat=True).distinct():
        try:
            now = live(symbol)
        except (Conflict, NotThere):
            continue
        _work(symbol, now)


def _work(symbol: str, now: Live) -> None:
    venue, taken = venue_of(symbol), Taken()
    open_now = is_open(venue) and now.session == venue.session
    alive = BrokerOrder.objects.filter(symbol=symbol, state__in=BrokerOrder.ALIVE).order_by("arrived", "id")
    for key in list(alive.values_list("pk", flat=True)):
        with transaction.atomic():
            order = BrokerOrder.objects.select_for_update(no_key=True).get(pk=key)
            if order.state not in BrokerOrder.ALIVE:
                continue
            if order.time_in_force == "day" and (order.session != venue.session or venue.sealed):
                order.state = "expired"
                order.save()
                report(order, "C", session_of(venue).close, text="the session is over")
                continue
            if not open_now or (order.not_before and order.not_before > dt.datetime.now(dt.UTC)):
                continue
            asked = terms(order)
            quotes = now.quotes({leg.contract for leg in asked.legs})
            if any(leg.ratio < 0 and leg.contract in quotes and quotes[leg.contract].bid == 0 for leg in asked.legs):
                asked = dataclasses.replace(asked, closes=_closes(order))
            found = match(asked, order.left, order.arrived, quotes, taken)
            if found is None:
                continue
            lots = 1 if found.lots > 1 and played("partial fill") else found.lots
            order.filled += lots
            order.state = "filled" if order.left == 0 else "partial"
            order.save()
            report(order, "F", now.at, lots=lots, prices=list(found.prices), legs=order.legs)


def positions(account: str, symbol: str) -> dict[str, int]:
    """Contracts held by code; what has expired is settled and gone."""
    venue = venue_of(symbol)
    held: Counter[str] = Counter()
    for row in BrokerExecution.objects.filter(account=account, report__exec_type="F", report__symbol=symbol):
        for code, ratio in row.report["legs"]:
            held[code] += ratio * row.report["lots"]
    first_alive = venue.session + dt.timedelta(days=1 if venue.sealed else 0)
    return {code: n for code, n in held.items() if n and ContractKey.parse(code).expiration >= first_alive}


@transaction.atomic
def lose_the_day() -> int:
    """A fault: forget the orders of the session and what came of them."""
    gone = BrokerOrder.objects.all()
    count = gone.count()
    BrokerName.objects.all().delete()
    BrokerExecution.objects.all().delete()
    gone.delete()
    return count
