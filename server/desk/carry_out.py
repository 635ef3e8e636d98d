"""The orders at the desk made those of the engine's state: what is missing is sent, what is gone withdrawn, limits follow the
market."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from typing import Any

from django.db import transaction

from config.errors import Refused
from desk.deployed import state_of
from desk.leader import still_leading
from desk.models import Account, Deployment, DeskOrder
from desk.services import closing_ticket, keep_refusal, locked_order, reprice, send, terms_of, withdraw
from desk.tickets import Ticket, step_of
from strell_core.engine.state import Order
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS
from strell_core.orders.order import Leg, sides
from strell_core.strategy.document import parse
from strell_core.strategy.sentences import sheet
from venue.clock import market_now, venue_of
from venue.live import last_recorded, live

LATE_SECONDS = 600
"""Market time after which an entry that could not be sent is given up."""


def carry_out(epoch: int, deployment_id: int) -> None:
    """Make the orders at the desk those of the engine's state: send what is missing, withdraw what is gone."""
    deployment = Deployment.objects.select_related("account__underlying", "revision", "strategy").get(pk=deployment_id)
    state = state_of(deployment)
    wanted = {_client_id(deployment, order): order for order in state.orders}
    if not wanted and not deployment.orders.filter(by="rule", state__in=DeskOrder.ALIVE).exists():
        return
    with transaction.atomic():
        still_leading(epoch)
        alive = {order.client_id: order for order in deployment.orders.filter(by="rule", state__in=DeskOrder.ALIVE)}
        for client_id, order in alive.items():
            stays = wanted.get(client_id)
            if stays is None:
                withdraw(locked_order(order.pk), "rule", "its rules no longer want it")
            elif stays.ending:
                withdraw(locked_order(order.pk), "rule", "an exit acts; the rest of the entry goes")
    if not deployment.armed:
        return
    for client_id, asked in wanted.items():
        known = deployment.orders.filter(client_id=client_id).select_related("account__underlying").first()
        if known is None and not asked.ending:
            _send(epoch, deployment, asked, client_id)
        elif known is not None and known.alive and not asked.ending:
            _walk(epoch, deployment, known, asked.least)


def _client_id(deployment: Deployment, order: Order) -> str:
    return f"d{deployment.pk}-{order.id}-{order.decided_at}"


def _send(epoch: int, deployment: Deployment, order: Order, client_id: str) -> None:
    with transaction.atomic():
        still_leading(epoch)
    account = deployment.account_of(order.symbol)
    facts = {
        "by": "rule", "deployment": deployment, "intent": order.id, "rule": order.rule,
        "because": because(deployment, order),
    }  # fmt: skip
    holding = None
    if order.purpose != "open":
        others = deployment.orders.filter(holding__trade=order.trade, state__in=DeskOrder.ALIVE)
        holding = deployment.holdings.filter(trade=order.trade, closed_at=None).first()
        if others.exists() or holding is None:
            return
    if order.purpose == "close" and holding is not None:
        ticket = closing_ticket(holding)
        # the engine's legs may stand in another order: fills must come back in the engine's
        ticket = Ticket(
            [(leg.contract.code, leg.contracts // order.lots) for leg in order.legs],
            order.lots,
            "market",
            None,
            "day",
            holding.pk,
        )
        if order.type == "limit":
            ticket = _priced(deployment, account, ticket)
    else:
        ticket = dataclasses.replace(_open_ticket(order), changes=None if holding is None else holding.pk)
        if market_now(venue_of(account.underlying.symbol)) - order.decided_at > LATE_SECONDS:
            _refused(account, ticket, client_id, "decided too long ago to be sent now", facts)
            return
        ticket = _priced(deployment, account, ticket, order.least)
    try:
        send(
            account,
            ticket,
            client_id,
            **facts,
            expires_market=None if order.purpose == "close" else order.decided_at + LATE_SECONDS,
        )
    except Refused as error:
        _refused(account, ticket, client_id, error.message, facts)


def _refused(account: Account, ticket: Ticket, client_id: str, reason: str, facts: dict[str, Any]) -> None:
    """Keep what was refused, and let the engine hear that its order has ended."""
    keep_refusal(account, ticket, client_id, reason, **facts)
    DeskOrder.objects.filter(account=account, client_id=client_id).update(told=False)


def because(deployment: Deployment, order: Order) -> str:
    number = sheet(deployment.revision.document).numbered(order.rule)
    return (
        f"{deployment.revision.document['name']}, sentence {number}" if number else deployment.revision.document["name"]
    )


def _open_ticket(order: Order) -> Ticket:
    return Ticket([(leg.contract.code, leg.contracts // order.lots) for leg in order.legs], order.lots, "limit")


def _priced(deployment: Deployment, account: Account, ticket: Ticket, least: int | None = None) -> Ticket:
    """A limit at the strategy's share of the way from mid to the other side, never for less than the ``least`` premium
    in parts; without a price to start from that least, and without one a market order."""
    legs = [Leg(ContractKey.parse(code), ratio) for code, ratio in ticket.legs]
    limit = _at_least(_limit(deployment, account, legs, ticket.holding is not None), least)
    if limit is None:
        return dataclasses.replace(ticket, type="market", limit=None)
    row = account.underlying
    step = int(step_of(row, len(ticket.legs), limit * row.quantum) / row.quantum)
    return dataclasses.replace(ticket, type="limit", limit=limit // step * step * row.quantum)


def _at_least(limit: int | None, least: int | None) -> int | None:
    """What a lot may cost in quanta at most, if it has to bring a premium."""
    if least is None:
        return limit
    return -(least // PARTS) if limit is None else min(limit, -(least // PARTS))


def _limit(deployment: Deployment, account: Account, legs: Sequence[Leg], closes: bool) -> int | None:
    """Quanta a lot, rounded passively. The whole way means to deal now: a quarter of the spread, at least
    a tick, is left for the market to move in while the order travels; the fill is at the better price."""
    now = live(account.underlying.symbol)
    found = sides(legs, now.quotes({leg.contract for leg in legs}), closes)
    if found is None:
        return None
    share = parse(deployment.revision.document).orders["fill_model"]["share"]
    if share >= 100:
        return found.other + max(1, (found.other - found.own) // 4)
    return (100 * (found.own + found.other) + share * (found.other - found.own)) // 200


def _walk(epoch: int, deployment: Deployment, order: DeskOrder, least: int | None) -> None:
    """A limit that a later snapshot finds still working is set anew: an entry at its share of the way, an
    exit at the other side."""
    if order.type != "limit" or order.state not in DeskOrder.AT_VENUE or order.new_limit is not None:
        return
    account = deployment.account_of(order.account.underlying.symbol)
    own = account.pk == deployment.account_id
    seen = deployment.cursor if own else last_recorded(account.underlying)
    if max(order.placed_market, order.arrived_market or 0) >= seen:
        return
    terms = terms_of(order)
    if order.opens:
        limit = _at_least(_limit(deployment, account, terms.legs, terms.closes), least)
    else:
        now = live(account.underlying.symbol)
        found = sides(terms.legs, now.quotes({leg.contract for leg in terms.legs}), terms.closes)
        limit = None if found is None else max(found.other, order.limit or 0)
    if limit is None or limit == order.limit:
        return
    with transaction.atomic():
        still_leading(epoch)
        held = locked_order(order.pk)
        if held.state in DeskOrder.AT_VENUE and not held.cancel_wanted:
            reprice(held, limit, "rule")
