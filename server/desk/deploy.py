"""Deployments: a strategy's rules decide on every recorded snapshot.

What was decided on the snapshots not seen before and the engine's state after them are written in one transaction; orders
are derived from that state (:mod:`desk.carry_out`), so a desk killed anywhere finds what is left to send and sends nothing
twice.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from decimal import Decimal
from functools import cache

import numpy as np
from django.db import transaction
from django.db.models import Exists, OuterRef, Q

from config.push import notify
from desk import beside
from desk.carry_out import carry_out, dealt_in
from desk.deployed import document_of, plan_of, reason_words, state_of, symbol_of
from desk.leader import still_leading
from desk.models import Decision, Deployment, DeskFill, DeskOrder
from journal import services as journal
from market.models import Venue
from market.own import market_for
from strell_core.engine.advance import advance
from strell_core.engine.plain import to_plain
from strell_core.engine.plan import Plan
from strell_core.engine.state import (
    Advanced,
    ClosedTrade,
    EngineState,
    Fill,
    Order,
    OrderLeg,
    Reason,
    TradeState,
)
from strell_core.engine.stored import dump, order_of
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Market, Observation
from strell_core.market.timeline import Timeline
from strell_core.orders.order import Leg
from venue.live import last_recorded, recorded

STRETCH = 64
"""Snapshots at most that are decided on in one transaction: a desk that was away for days holds nobody up for long."""


def decide_all(epoch: int, venue: Venue) -> int:
    """Let every armed deployment decide on what was recorded since it last did; on how many snapshots."""
    armed = Deployment.objects.filter(armed=True, account__underlying=venue.underlying, ended_at=None)
    last = last_recorded(venue.underlying)
    behind = [row for row in armed.select_related("revision") if row.cursor < last]
    count = 0
    histories = cache(recorded)
    for row in behind:
        market = market_for(row.revision.document, row.owner_id, histories)
        end = beside.ready(market, venue)
        for begin in range(_after(market.main, row.cursor), end, STRETCH):
            count += decide(epoch, row.pk, market, begin, min(begin + STRETCH, end))
    for key in _with_orders(venue):
        carry_out(epoch, key)
    return count


def _after(timeline: Timeline, instant: int) -> int:
    """Index of the first snapshot after an instant."""
    return int(np.searchsorted(timeline.times, instant, side="right"))


def _with_orders(venue: Venue) -> list[int]:
    """Deployments whose engine wants orders, or that have some at work."""
    working = Exists(DeskOrder.objects.filter(deployment=OuterRef("pk"), by="rule", state__in=DeskOrder.ALIVE))
    alive = Deployment.objects.filter(account__underlying=venue.underlying, ended_at=None)
    return list(alive.filter(Q(at_work__gt=0) | working).values_list("pk", flat=True))


@transaction.atomic
def decide(epoch: int, deployment_id: int, market: Market, begin: int, end: int) -> int:
    """Advance one deployment over the snapshots ``begin`` to ``end`` (exclusive) that it has not decided on; on how
    many. What a snapshot is decided on is the same however many are looked at together: between them nothing can
    become of an order, for orders of theirs are sent when all are done."""
    still_leading(epoch)
    timeline = market.main
    deployment = (
        Deployment.objects.select_for_update(of=["self"], no_key=True)
        .select_related("revision", "account__underlying", "strategy")
        .get(pk=deployment_id)
    )
    begin = max(begin, _after(timeline, deployment.cursor))
    if not deployment.armed or begin >= end:
        return 0
    plan, state = plan_of(deployment, market), state_of(deployment)
    news = _has_news(deployment)
    made: list[Decision] = []
    words: list[str] = []
    heard = False
    for index in range(begin, end):
        instant = int(timeline.times[index])
        orders, fills, news = _untold(deployment, plan, state, instant) if news else ([], [], False)
        given = dataclasses.replace(state, orders=(*state.orders, *orders))
        advanced = advance(plan, given, Observation(market, index), fills)
        session = timeline.dates[int(timeline.session_of[index])]
        first = deployment.session != session
        if first or fills or advanced.reasons or advanced.intents:
            made.append(
                Decision(
                    deployment=deployment, at=instant, session=session, before=dump(state) if first else "",
                    orders=to_plain(orders), fills=to_plain(fills), reasons=to_plain(advanced.reasons),
                    intents=to_plain(advanced.intents),
                )
            )  # fmt: skip
        state, heard = advanced.state, heard or bool(fills)
        deployment.cursor, deployment.session = instant, session
        words += [_journal(deployment, market, advanced, reason) for reason in advanced.reasons]
    if made:
        Decision.objects.bulk_create(made)
    if words:
        deployment.says = words[-1][:300]
    deployment.state, deployment.at_work = dump(state), len(state.orders)
    deployment.save(update_fields=["state", "at_work", "cursor", "session", "says"])
    if words or heard:
        notify(deployment.owner_id, "deployment", deployment.pk, account=deployment.account_id)
    return end - begin


def _has_news(deployment: Deployment) -> bool:
    """Whether anything became of its orders that the engine does not know."""
    fills = DeskFill.objects.filter(holding__deployment=deployment, told=False).values("pk")
    ended = DeskOrder.objects.filter(deployment=deployment, told=False).values("pk")
    return fills.union(ended.exclude(state__in=DeskOrder.ALIVE)).exists()


def _untold(
    deployment: Deployment, plan: Plan, state: EngineState, instant: int
) -> tuple[list[Order], list[Fill], bool]:
    """What became of orders since the engine last heard, up to ``instant``; with the orders it does not
    (or no longer) know: made by hand or by protection, or lapsed before their fill came. And whether there are
    fills of ``instant`` or later, which a later snapshot is told of."""
    known = {order.id for order in state.orders}
    asked = {order.id: order for order in state.orders}
    has = {order.id: {leg.contract for leg in order.legs} for order in state.orders}
    orders: list[Order] = []
    fills: list[Fill] = []
    rows = _fills_untold(deployment)
    for fill in rows:
        if fill.at >= instant:
            continue
        order = fill.order
        if order is None:
            continue
        name = order.intent or f"{fill.holding.trade}-{order.by}-{order.pk}"
        legs = [Leg(ContractKey.parse(code), ratio) for code, ratio in order.legs]
        if name not in known:
            orders.append(_engine_order(deployment, state, order, fill, name, legs))
            known.add(name)
        last = order.fills.order_by("-id").first()
        over = not order.alive and last == fill
        whole = fill.lots == order.lots
        # a leg that settled before the fill was heard of is no longer the order's
        dealt = [(ContractKey.parse(code), parts) for code, _, parts in fill.legs]
        prices = tuple(parts for contract, parts in dealt if name not in has or contract in has[name])
        of_legs = dealt_in(asked[name], fill) if name in asked and plan.working.by_leg is not None else ()
        if of_legs:
            fills.append(Fill(name, fill.at, prices, fill.commission, ended=over and order.left > 0, dealt=of_legs))
        else:
            fills.append(Fill(name, fill.at, prices, fill.commission, None if whole else fill.lots, over and not whole))
        fill.told = True
        fill.save(update_fields=["told"])
    ended = (
        DeskOrder.objects.select_for_update(of=["self"], no_key=True)
        .filter(deployment=deployment, told=False)
        .exclude(state__in=DeskOrder.ALIVE)
    )
    for order in ended:
        if order.fills.filter(told=False).exists():
            continue
        if (order.intent in known and order.state != DeskOrder.State.FILLED and not order.fills.exists()) or (
            order.intent in known and order.left and not any(f.order == order.intent for f in fills)
        ):
            fills.append(Fill(order.intent, instant, (), Decimal(0), 0, True))
        order.told = True
        order.save(update_fields=["told"])
    return orders, fills, any(fill.at >= instant for fill in rows)


def _fills_untold(deployment: Deployment) -> list[DeskFill]:
    rows = DeskFill.objects.select_for_update(of=["self"], no_key=True).filter(
        holding__deployment=deployment, told=False, kind="order"
    )  # fmt: skip
    return list(rows.select_related("order", "holding").order_by("at", "id"))


def _engine_order(
    deployment: Deployment, state: EngineState, order: DeskOrder, fill: DeskFill, name: str, legs: Sequence[Leg]
) -> Order:
    """An order that the engine has to be told of before its fill."""
    stored = next(
        (raw for row in deployment.decisions.order_by("-at") for raw in row.intents if raw["id"] == order.intent), None
    ) if order.intent else None  # fmt: skip
    if stored is not None:
        return order_of(stored, symbol_of(deployment))
    trade = next((trade for trade in state.trades if trade.number == fill.holding.trade), None)
    ids = {leg.contract: leg.leg_id for leg in trade.legs} if trade else {}
    made = tuple(OrderLeg(ids.get(leg.contract, ""), leg.contract, leg.ratio * order.lots) for leg in legs)
    rule = "by hand" if order.by in ("person", "halt") else order.by
    return Order(
        name, "close", fill.holding.trade or 0, order.lots, made, fill.at, order.session, rule, {}, type="market",
        urgency="now",
    )  # fmt: skip


def _journal(deployment: Deployment, market: Market, advanced: Advanced, reason: Reason) -> str:
    traded: list[TradeState | ClosedTrade] = [*advanced.state.trades, *advanced.closed]
    symbol = next((trade.symbol for trade in traded if trade.number == reason.trade), "")
    text = reason_words(document_of(deployment), market.on_clock(symbol), reason)
    journal.write(
        deployment.owner_id, "rule", reason.kind, f"{deployment.revision.document['name']}: {text}", reason.at,
        rule=reason.rule, values=to_plain(reason.values), account=deployment.account_id, deployment=deployment.pk,
        strategy=deployment.strategy_id, symbol=symbol or deployment.account.underlying.symbol,
    )  # fmt: skip
    return text
