"""The orders at the desk made those of the engine's state: what is missing is sent, what is gone withdrawn, limits follow the
market."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from django.db import transaction

from config.errors import Refused
from desk.deployed import state_of
from desk.leader import still_leading
from desk.locks import accounts_of, hold_accounts, locked_order
from desk.models import Account, Deployment, DeskFill, DeskOrder
from desk.services import closing_ticket, keep_refusal, reprice, send, terms_of, withdraw
from desk.tickets import Ticket, step_of
from strell_core.engine.state import Fill, Order
from strell_core.engine.working import Working
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS
from strell_core.orders.order import Leg, sides
from strell_core.strategy.document import parse
from strell_core.strategy.sentences import sheet
from venue.clock import market_now, traded_since, venue_of
from venue.live import last_recorded, live

LATE_SECONDS = 600
"""Market time after which an entry that could not be sent is given up."""


def carry_out(epoch: int, deployment_id: int) -> None:
    """Make the orders at the desk those of the engine's state: send what is missing, withdraw what is gone."""
    deployment = Deployment.objects.select_related("account__underlying", "revision", "strategy").get(pk=deployment_id)
    state = state_of(deployment)
    left = [_left(deployment, order) for order in state.orders]
    wanted = {_client_id(deployment, order): order for order in left if order is not None}
    if not wanted and not deployment.orders.filter(by="rule", state__in=DeskOrder.ALIVE).exists():
        return
    with transaction.atomic():
        still_leading(epoch)
        hold_accounts(accounts_of(deployment))
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
            _walk(epoch, deployment, known, asked)


def _client_id(deployment: Deployment, order: Order) -> str:
    return f"d{deployment.pk}-{order.id}-{order.turn}"


def _left(deployment: Deployment, order: Order) -> Order | None:
    """What is left of an engine's order after fills that its next snapshot will tell it of: where legs are dealt one after
    another, the next one does not wait for that. ``None``: nothing."""
    if _working(deployment).by_leg is None or order.type == "market":
        return order
    fills = DeskFill.objects.filter(
        order__deployment=deployment, order__intent=order.id, order__placed_market__gte=order.decided_at, told=False
    ).order_by("at", "id")  # fmt: skip
    rest: Order | None = order
    for fill in fills:
        dealt = dealt_in(order, fill)
        if rest is None or not dealt:
            break
        _, rest = rest.parted(
            Fill(order.id, fill.at, tuple(parts for _, _, parts in fill.legs), Decimal(0), dealt=dealt)
        )
    return rest


def dealt_in(order: Order, fill: DeskFill) -> tuple[tuple[str, int], ...]:
    """The legs of an engine's order that a fill dealt in, with their contracts, for a sheet that deals leg by leg; nothing
    for an adjustment, which is one order all the same."""
    if order.purpose == "adjust":
        return ()
    names = {leg.contract: leg.leg_id for leg in order.legs}
    dealt = [(ContractKey.parse(code), contracts) for code, contracts, _ in fill.legs]
    return tuple((names[contract], contracts) for contract, contracts in dealt if contract in names)


def _working(deployment: Deployment) -> Working:
    return Working.of(parse(deployment.revision.document))


def _part(working: Working, order: Order) -> tuple[Order, bool]:
    """The part of an order that is dealt next, and whether it is all that is left."""
    turn = working.turn(order, order.legs)
    return (order, True) if len(turn) == len(order.legs) else (order.of_legs(turn), False)


def _send(epoch: int, deployment: Deployment, order: Order, client_id: str) -> None:
    with transaction.atomic():
        still_leading(epoch)
    account = deployment.account_of(order.symbol)
    facts = {
        "by": "rule", "deployment": deployment, "intent": order.id, "rule": order.rule,
        "because": because(deployment, order),
    }  # fmt: skip
    holding, working = None, _working(deployment)
    part, last = _part(working, order)
    if order.purpose != "open" or order.turn_at:
        others = deployment.orders.filter(holding__trade=order.trade, state__in=DeskOrder.ALIVE)
        holding = deployment.holdings.filter(trade=order.trade, closed_at=None).first()
        if others.exists() or holding is None:
            return
    if order.purpose == "close" and holding is not None:
        ticket = closing_ticket(holding)
        # the engine's legs may stand in another order: fills must come back in the engine's
        ticket = Ticket(
            [(leg.contract.code, leg.contracts // part.lots) for leg in part.legs],
            part.lots,
            "market",
            None,
            "day",
            holding.pk,
        )
        if order.type == "limit":
            ticket = _priced(deployment, account, working, order, ticket)
    else:
        ticket = dataclasses.replace(_open_ticket(part), changes=None if holding is None else holding.pk)
        if market_now(venue_of(account.underlying.symbol)) - order.turn > LATE_SECONDS:
            _refused(account, ticket, client_id, "decided too long ago to be sent now", facts)
            return
        ticket = _priced(deployment, account, working, order, ticket, order.least if last else None)
    try:
        send(
            account,
            ticket,
            client_id,
            **facts,
            expires_market=None if order.purpose == "close" else order.turn + LATE_SECONDS,
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


def _priced(
    deployment: Deployment, account: Account, working: Working, order: Order, ticket: Ticket, least: int | None = None
) -> Ticket:  # fmt: skip
    """A limit as far as the strategy's patience has come, else at its share of the way from mid to the other side, never
    for less than the ``least`` premium in parts; without a price to start from that least, and without one a market order."""
    legs = [Leg(ContractKey.parse(code), ratio) for code, ratio in ticket.legs]
    way = _way(deployment, account, working, order)
    limit = _at_least(_limit(account, legs, ticket.holding is not None, way), least)
    if limit is None:
        return dataclasses.replace(ticket, type="market", limit=None)
    return dataclasses.replace(ticket, type="limit", limit=_on_steps(account, legs, limit) * account.underlying.quantum)


def _on_steps(account: Account, legs: Sequence[Leg], limit: int) -> int:
    """A limit in quanta on the exchange's price steps, rounded passively."""
    row = account.underlying
    step = int(step_of(row, len(legs), limit * row.quantum) / row.quantum)
    return limit // step * step


def _at_least(limit: int | None, least: int | None) -> int | None:
    """What a lot may cost in quanta at most, if it has to bring a premium."""
    if least is None:
        return limit
    return -(least // PARTS) if limit is None else min(limit, -(least // PARTS))


DEAL_NOW = 101
"""A share of the way from mid to the other side that goes beyond it."""


def _way(deployment: Deployment, account: Account, working: Working, order: Order) -> int:
    """How far an order goes from mid to the other side now, in percent."""
    if working.patience is None:
        share = int(parse(deployment.revision.document).orders["fill_model"]["share"])
        return DEAL_NOW if share >= 100 else share
    waited = traded_since(venue_of(account.underlying.symbol), order.turn)
    over = waited >= working.patience.whole and working.patience.crosses(order)
    return DEAL_NOW if over else working.patience.stands(waited)


def _limit(account: Account, legs: Sequence[Leg], closes: bool, way: int) -> int | None:
    """Quanta a lot, rounded passively, so many percent of the way from mid to the other side. To deal now means a quarter
    of the spread more, at least a tick, for the market to move in while the order travels; the fill is at the better
    price."""
    now = live(account.underlying.symbol)
    found = sides(legs, now.quotes({leg.contract for leg in legs}), closes)
    if found is None:
        return None
    if way >= DEAL_NOW:
        return found.other + max(1, (found.other - found.own) // 4)
    return (100 * (found.own + found.other) + way * (found.other - found.own)) // 200


def _walk(epoch: int, deployment: Deployment, order: DeskOrder, asked: Order) -> None:
    """A limit that a later snapshot finds still working is set anew: as far as its patience has come, which sets it anew
    at its steps as well; without patience an entry at its share of the way, an exit at the other side."""
    if order.type != "limit" or order.state not in DeskOrder.AT_VENUE or order.new_limit is not None:
        return
    account = deployment.account_of(order.account.underlying.symbol)
    own = account.pk == deployment.account_id
    seen = deployment.cursor if own else last_recorded(account.underlying)
    working, priced = _working(deployment), max(order.placed_market, order.arrived_market or 0)
    if priced >= seen and not _steps(account, working, asked, priced):
        return
    terms = terms_of(order)
    if order.opens or working.patience is not None:
        limit = _limit(account, terms.legs, terms.closes, _way(deployment, account, working, asked))
        limit = _at_least(limit, asked.least if order.opens and _part(working, asked)[1] else None)
    else:
        now = live(account.underlying.symbol)
        found = sides(terms.legs, now.quotes({leg.contract for leg in terms.legs}), terms.closes)
        limit = None if found is None else max(found.other, order.limit or 0)
    if limit is None:
        return
    limit = _on_steps(account, terms.legs, limit)
    if limit == order.limit:
        return
    with transaction.atomic():
        still_leading(epoch)
        held = locked_order(order.pk)
        if held.state in DeskOrder.AT_VENUE and not held.cancel_wanted:
            reprice(held, limit, "rule")


def _steps(account: Account, working: Working, order: Order, priced: int) -> bool:
    """Whether an order's limit has gone a step further since it was set, market time."""
    if working.patience is None:
        return False
    waited = traded_since(venue_of(account.underlying.symbol), order.turn)
    then = waited - (market_now(venue_of(account.underlying.symbol)) - priced)
    return working.patience.reached(waited) > working.patience.reached(max(0, then))
