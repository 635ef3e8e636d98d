"""Deployments: a strategy's rules decide on every recorded snapshot and its intents become orders.

The engine's state after a snapshot, what was decided on it and the orders that follow from it are
written in one transaction each; orders are derived from the state, so a desk killed anywhere finds
what is left to send and sends nothing twice.
"""

from __future__ import annotations

import dataclasses
import json
from collections.abc import Sequence
from decimal import Decimal
from typing import Any

import numpy as np
from django.db import transaction
from django.db.models import Exists, OuterRef, Q

from config.errors import Refused
from config.push import notify
from desk.leader import still_leading
from desk.models import Decision, Deployment, DeskFill, DeskOrder
from desk.services import closing_ticket, keep_refusal, locked_order, reprice, send, terms_of, withdraw
from desk.tickets import Ticket, step_of
from journal import services as journal
from market.calendars import calendar_for
from market.models import Venue
from runs.rows import amount_text, exit_reason
from strell_core.engine.advance import advance
from strell_core.engine.plan import Plan, make_plan
from strell_core.engine.state import EngineState, Fill, Order, OrderLeg, Reason, to_plain
from strell_core.engine.stored import dump, load, order_of
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Observation
from strell_core.market.prices import money, parts_to_money
from strell_core.market.timeline import Timeline
from strell_core.orders.order import Leg, sides
from strell_core.strategy.document import parse
from strell_core.strategy.sentences import sheet
from venue.clock import market_now
from venue.live import last_recorded, live, recorded

LATE_SECONDS = 600
"""Market time after which an entry that could not be sent is given up."""
STRETCH = 64
"""Snapshots at most that are decided on in one transaction: a desk that was away for days holds nobody up for long."""


def document_of(deployment: Deployment) -> dict[str, Any]:
    """The revision's rules with the deployment's size."""
    document = json.loads(json.dumps(deployment.revision.document))
    for entry in document["entries"]:
        for rule in entry["size"]:
            if "lots" in rule:
                rule["lots"] = rule["lots"] * deployment.size
    return document


def symbol_of(deployment: Deployment) -> str:
    return deployment.account.underlying.symbol


def state_of(deployment: Deployment) -> EngineState:
    """What its engine remembers, whichever version stored it."""
    return load(deployment.state, symbol_of(deployment))


_plans: dict[tuple[int, int], Plan] = {}


def plan_of(deployment: Deployment, timeline: Timeline) -> Plan:
    """The deployment's rules made ready; a revision never changes, so it is made once."""
    key = (deployment.revision_id, deployment.size)
    if key not in _plans:
        while len(_plans) > 64:
            del _plans[next(iter(_plans))]
        _plans[key] = make_plan(parse(document_of(deployment)), timeline)
    return _plans[key]


def decide_all(epoch: int, venue: Venue) -> int:
    """Let every armed deployment decide on what was recorded since it last did; on how many snapshots."""
    armed = Deployment.objects.filter(armed=True, account__underlying=venue.underlying, ended_at=None)
    last = last_recorded(venue.underlying)
    behind = [(key, cursor) for key, cursor in armed.values_list("pk", "cursor") if cursor < last]
    count = 0
    if behind:
        calendar = calendar_for(venue.underlying)
        since = min(calendar.local(cursor).date() for _, cursor in behind)
        timeline = recorded(venue.underlying.symbol, min(since, venue.session))
        if timeline is not None:
            end = len(timeline.times)
            for key, cursor in behind:
                for begin in range(_after(timeline, cursor), end, STRETCH):
                    count += decide(epoch, key, timeline, begin, min(begin + STRETCH, end))
    for key in _with_orders(venue):
        carry_out(epoch, key, venue)
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
def decide(epoch: int, deployment_id: int, timeline: Timeline, begin: int, end: int) -> int:
    """Advance one deployment over the snapshots ``begin`` to ``end`` (exclusive) that it has not decided on; on how
    many. What a snapshot is decided on is the same however many are looked at together: between them nothing can
    become of an order, for orders of theirs are sent when all are done."""
    still_leading(epoch)
    deployment = (
        Deployment.objects.select_for_update(of=["self"])
        .select_related("revision", "account__underlying", "strategy")
        .get(pk=deployment_id)
    )
    begin = max(begin, _after(timeline, deployment.cursor))
    if not deployment.armed or begin >= end:
        return 0
    plan, state = plan_of(deployment, timeline), state_of(deployment)
    news = _has_news(deployment)
    made: list[Decision] = []
    words: list[str] = []
    heard = False
    for index in range(begin, end):
        instant = int(timeline.times[index])
        orders, fills, news = _untold(deployment, state, instant) if news else ([], [], False)
        given = dataclasses.replace(state, orders=(*state.orders, *orders))
        advanced = advance(plan, given, Observation(timeline, index), fills)
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
        words += [_journal(deployment, plan, timeline, reason) for reason in advanced.reasons]
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


def _untold(deployment: Deployment, state: EngineState, instant: int) -> tuple[list[Order], list[Fill], bool]:
    """What became of orders since the engine last heard, up to ``instant``; with the orders it does not
    (or no longer) know: made by hand or by protection, or lapsed before their fill came. And whether there are
    fills of ``instant`` or later, which a later snapshot is told of."""
    known = {order.id for order in state.orders}
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
        prices = tuple(parts for _, _, parts in fill.legs)
        fills.append(Fill(name, fill.at, prices, fill.commission, None if whole else fill.lots, over and not whole))
        fill.told = True
        fill.save(update_fields=["told"])
    ended = (
        DeskOrder.objects.select_for_update(of=["self"])
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
    rows = DeskFill.objects.select_for_update(of=["self"]).filter(
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


def _journal(deployment: Deployment, plan: Plan, timeline: Timeline, reason: Reason) -> str:
    text = reason_words(document_of(deployment), plan, timeline, reason)
    journal.write(
        deployment.owner_id, "rule", reason.kind, f"{deployment.revision.document['name']}: {text}", reason.at,
        rule=reason.rule, values=to_plain(reason.values), account=deployment.account_id, deployment=deployment.pk,
        strategy=deployment.strategy_id, symbol=deployment.account.underlying.symbol,
    )  # fmt: skip
    return text


def reason_words(document: dict[str, Any], plan: Plan, timeline: Timeline, reason: Reason) -> str:
    """A reason as a sentence."""
    number = sheet(document).numbered(reason.rule)
    said = f" (sentence {number})" if number else ""
    values = reason.values
    moment = timeline.calendar.local(reason.at)
    today, local = moment.date(), moment.strftime("%H:%M")

    def amount(parts: int) -> str:
        value = money(parts_to_money(parts, plan.quantum, plan.multiplier(today)))
        return amount_text(value, timeline.underlying.currency)

    if reason.kind == "entry":
        legs = ", ".join(ContractKey.parse(code, timeline.underlying.symbol).label for code in values["contracts"])
        return f"entered trade {reason.trade} at {local}{said}: {legs}"
    if reason.kind == "no entry":
        why = values.get("message") or ", ".join(f"{key} {value}" for key, value in values.items())
        return f"no entry at {local}: {why}{said}"
    if reason.kind == "skipped":
        return f"decision time skipped at {local}: {values['message']}"
    if reason.kind == "left":
        shown = {key: value for key, value in values.items() if key != "also"}
        return f"left trade {reason.trade} at {local}: {exit_reason(plan, timeline, document, reason.rule, shown, today)}{said}"
    if reason.kind == "filled":
        what = "premium" if values["kind"] == "open" else "P/L"
        return f"trade {reason.trade}: {values['kind']} filled, {what} {amount(values['premium' if values['kind'] == 'open' else 'pnl'])}"
    if reason.kind == "ended":
        return f"trade {reason.trade}: the {values['kind']} order ended without (more) fills"
    if reason.kind == "adjusted":
        return f"trade {reason.trade} at {local}: the underlying was split {values['split']}"
    if reason.kind == "settled":
        return f"trade {reason.trade}: settled in cash"
    return f"trade {reason.trade}: {values.get('message', reason.kind)}"


def carry_out(epoch: int, deployment_id: int, venue: Venue) -> None:
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
        known = deployment.orders.filter(client_id=client_id).first()
        if known is None and not asked.ending:
            _send(epoch, deployment, asked, client_id, venue)
        elif known is not None and known.alive and not asked.ending:
            _walk(epoch, deployment, known)


def _client_id(deployment: Deployment, order: Order) -> str:
    return f"d{deployment.pk}-{order.id}-{order.decided_at}"


def _send(epoch: int, deployment: Deployment, order: Order, client_id: str, venue: Venue) -> None:
    with transaction.atomic():
        still_leading(epoch)
    facts = {
        "by": "rule", "deployment": deployment, "intent": order.id, "rule": order.rule,
        "because": because(deployment, order),
    }  # fmt: skip
    if order.purpose == "adjust":
        # no sentence asks for one yet: a position is never changed by an order that only half fits it
        keep_refusal(
            deployment.account, _open_ticket(order), client_id, "adjustments are not sent to a market yet", **facts
        )
        return
    if order.purpose == "close":
        others = deployment.orders.filter(holding__trade=order.trade, state__in=DeskOrder.ALIVE)
        if others.exists():
            return
        holding = deployment.holdings.filter(trade=order.trade, closed_at=None).first()
        if holding is None:
            return
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
            ticket = _priced(deployment, ticket)
    else:
        if market_now(venue) - order.decided_at > LATE_SECONDS:
            keep_refusal(
                deployment.account, _open_ticket(order), client_id, "decided too long ago to be sent now", **facts
            )
            return
        ticket = _priced(deployment, _open_ticket(order))
    try:
        send(
            deployment.account,
            ticket,
            client_id,
            **facts,
            expires_market=None if order.purpose == "close" else order.decided_at + LATE_SECONDS,
        )
    except Refused as error:
        keep_refusal(deployment.account, ticket, client_id, error.message, **facts)
        DeskOrder.objects.filter(account=deployment.account, client_id=client_id).update(told=False)


def because(deployment: Deployment, order: Order) -> str:
    number = sheet(deployment.revision.document).numbered(order.rule)
    return (
        f"{deployment.revision.document['name']}, sentence {number}" if number else deployment.revision.document["name"]
    )


def _open_ticket(order: Order) -> Ticket:
    return Ticket([(leg.contract.code, leg.contracts // order.lots) for leg in order.legs], order.lots, "limit")


def _priced(deployment: Deployment, ticket: Ticket) -> Ticket:
    """A limit at the strategy's share of the way from mid to the other side; a market order where there is
    no price to start from."""
    limit = _limit(deployment, [Leg(ContractKey.parse(code), ratio) for code, ratio in ticket.legs])
    if limit is None:
        return dataclasses.replace(ticket, type="market", limit=None)
    row = deployment.account.underlying
    step = int(step_of(row, len(ticket.legs), limit * row.quantum) / row.quantum)
    return dataclasses.replace(ticket, type="limit", limit=limit // step * step * row.quantum)


def _limit(deployment: Deployment, legs: Sequence[Leg]) -> int | None:
    """Quanta a lot, rounded passively. The whole way means to deal now: a quarter of the spread, at least
    a tick, is left for the market to move in while the order travels; the fill is at the better price."""
    now = live(deployment.account.underlying.symbol)
    found = sides(legs, now.quotes({leg.contract for leg in legs}))
    if found is None:
        return None
    share = parse(deployment.revision.document).orders["fill_model"]["share"]
    if share >= 100:
        return found.other + max(1, (found.other - found.own) // 4)
    return (100 * (found.own + found.other) + share * (found.other - found.own)) // 200


def _walk(epoch: int, deployment: Deployment, order: DeskOrder) -> None:
    """A limit that a later snapshot finds still working is set anew: an entry at its share of the way, an
    exit at the other side."""
    if order.type != "limit" or order.state not in DeskOrder.AT_VENUE or order.new_limit is not None:
        return
    if max(order.placed_market, order.arrived_market or 0) >= deployment.cursor:
        return
    terms = terms_of(order)
    if order.opens:
        limit = _limit(deployment, terms.legs)
    else:
        now = live(deployment.account.underlying.symbol)
        found = sides(terms.legs, now.quotes({leg.contract for leg in terms.legs}))
        limit = None if found is None else max(found.other, order.limit or 0)
    if limit is None or limit == order.limit:
        return
    with transaction.atomic():
        still_leading(epoch)
        held = locked_order(order.pk)
        if held.state in DeskOrder.AT_VENUE and not held.cancel_wanted:
            reprice(held, limit, "rule")
