"""What a person or a script may do at the desk: accounts, orders, protection."""

from __future__ import annotations

import uuid
from decimal import Decimal
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from config.errors import Conflict, NotThere, Refused
from config.push import notify, notify_desk
from desk import book, leader
from desk.locks import hold_account, locked_holding, locked_order
from desk.models import PRACTICE, Account, Deployment, DeskOrder, Holding, Outbox
from desk.positions import standing
from desk.tickets import Judged, Ticket, judge, read_limit, read_protection
from journal import services as journal
from market.models import Underlying, Venue
from market.terms import terms as contract_terms
from practice_broker import accounts as broker_accounts
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import grouped
from strell_core.orders import limits
from strell_core.orders.order import Leg, OrderType, Terms, TimeInForce, sides
from strell_core.orders.protection import Protection
from venue.clock import market_now, venue_of
from venue.live import live

State = DeskOrder.State
MAX_ACCOUNTS = 20


def find_account(user: User, account_id: int) -> Account:
    found = Account.objects.of(user).select_related("underlying").filter(pk=account_id).first()
    if found is None:
        raise NotThere("There is no such account.")
    return found


def find_order(user: User, order_id: int) -> DeskOrder:
    found = DeskOrder.objects.of(user).select_related("account__underlying", "deployment").filter(pk=order_id).first()
    if found is None:
        raise NotThere("There is no such order.")
    return found


def find_holding(user: User, holding_id: int) -> Holding:
    found = Holding.objects.of(user).select_related("account__underlying").filter(pk=holding_id).first()
    if found is None:
        raise NotThere("There is no such position.")
    return found


@transaction.atomic
def open_account(user: User, name: str, kind: str, symbol: str, cash: Decimal) -> Account:
    name = name.strip()
    if not 1 <= len(name) <= 40:
        raise Refused(
            "An account needs a name of 1 to 40 characters.", [{"path": "name", "message": "1 to 40 characters"}]
        )
    if kind not in Account.Kind.values:
        raise Refused("An account is of the kind paper or practice.", [{"path": "kind", "message": "unknown"}])
    if not Decimal(1000) <= cash <= Decimal("1e9"):
        raise Refused(
            "Starting cash must lie between 1 000 and 1 000 000 000.", [{"path": "cash", "message": "out of range"}]
        )
    if Account.objects.of(user).filter(name=name).exists():
        raise Conflict(f"There is an account called {name} already.")
    if Account.objects.of(user).count() >= MAX_ACCOUNTS:
        raise Conflict(f"There are {MAX_ACCOUNTS} accounts already.")
    underlying = Underlying.objects.filter(symbol=symbol).first()
    if underlying is None or not Venue.objects.filter(underlying=underlying).exists():
        raise Refused(f"No market is connected for {symbol}.")
    if kind == PRACTICE and contract_terms(underlying).delivers:
        raise Refused(
            f"The practice broker deals options that settle in cash only. {symbol} is traded on paper.",
            [{"path": "kind", "message": "paper only"}],
        )
    venue = venue_of(symbol)
    account = Account.objects.create(
        owner=user, name=name, kind=kind, underlying=underlying, cash_start=cash, limits=limits.Limits().plain(),
        session=venue.session, opening_equity=cash,
        broker_code=broker_accounts.open_account() if kind == PRACTICE else "",
    )  # fmt: skip
    journal.write(
        user.pk, "person", "account", f"Opened the {kind} account {name} with {grouped(cash, 2)} {underlying.currency}",
        market_now(venue), account=account.pk, symbol=symbol,
    )  # fmt: skip
    return account


def set_limits(user: User, account_id: int, raw: dict[str, Any]) -> Account:
    account = find_account(user, account_id)
    account.limits = read_limits({**account.limits, **raw}).plain()
    account.save(update_fields=["limits"])
    journal.write(
        user.pk, "person", "limits", f"Limits of {account.name} changed", values=account.limits, account=account.pk
    )
    return account


def read_limits(raw: dict[str, Any]) -> limits.Limits:
    try:
        return limits.Limits.parse(raw)
    except ValueError as error:
        raise Refused(f"{error}.", [{"path": str(error).split(":")[0].split(" ")[0], "message": str(error)}]) from error


def preview(user: User, account_id: int, ticket: Ticket) -> Judged:
    return judge(find_account(user, account_id), ticket)


def place(account: Account, ticket: Ticket) -> DeskOrder:
    """Place an order by hand; whoever calls has seen that the account is theirs. The same ``client_id`` again
    gives the order that is there; what is refused is kept with its reason and raises :class:`Refused`."""
    client_id = ticket.client_id or uuid.uuid4().hex
    if len(client_id) > 64:
        raise Refused("A client id has at most 64 characters.")
    try:
        return send(account, ticket, client_id, by="person", because="by hand")
    except Refused as error:
        keep_refusal(account, ticket, client_id, error.message)
        raise


def _same(order: DeskOrder, ticket: Ticket) -> bool:
    """Whether a ticket asks for an order that is there: legs, lots and how it is priced."""
    limit, problems = None, list[tuple[str, str]]()
    if ticket.type == "limit" and ticket.limit not in (None, ""):
        limit = read_limit(ticket.limit, order.account.underlying, len(ticket.legs), problems)
    asked = ([list(leg) for leg in ticket.legs], str(ticket.lots), ticket.type, limit, ticket.holding is None)
    there = ([list(leg) for leg in order.legs], str(order.lots), order.type, order.limit, order.opens)
    return asked == there and ticket.holding in (None, order.holding_id)


@transaction.atomic
def send(account: Account, ticket: Ticket, client_id: str, **facts: Any) -> DeskOrder:
    """Judge a ticket and enter its order, in one transaction. ``facts`` are fields of the order."""
    # orders of one account are judged one after the other, so that two cannot spend the same capital
    account = hold_account(account.pk)
    known = account.orders.filter(client_id=client_id).first()
    if known is not None:
        if known.state == State.REFUSED:
            raise Refused(known.reason)
        if known.by == "person" and not _same(known, ticket):
            raise Refused(
                f"With this id order {known.pk} was sent before, and it is another one. Nothing was sent now."
            )
        return known
    deployment: Deployment | None = facts.get("deployment")
    if facts["by"] == "rule" and not (
        deployment and Deployment.objects.select_for_update(no_key=True).get(pk=deployment.pk).armed
    ):
        raise Refused("Its deployment is not armed any more.")
    judged = judge(account, ticket, facts["by"], deployment)
    judged.refuse()
    venue, terms = judged.venue, judged.terms
    now = market_now(venue)
    # the desk works with what stands here: on paper there is nothing to wait for
    works = account.kind != PRACTICE and leader.alive()
    if works:
        facts.update(state=State.WORKING, arrived_market=now)
    order = DeskOrder.objects.create(
        account=account, client_id=client_id, holding=judged.holding or judged.changes, opens=judged.holding is None,
        changes=judged.changes is not None,
        legs=[[leg.contract.code, leg.ratio] for leg in terms.legs], lots=terms.lots, type=terms.type.value,
        limit=terms.limit, time_in_force=terms.time_in_force.value, protection=plain_protection(judged.protection) if judged.holding is None else {},
        session=venue.session, placed_market=now, **facts,
    )  # fmt: skip
    if account.kind == PRACTICE:
        Outbox.objects.create(order=order, kind="new", cl_ord_id=f"{order.pk}-1")
    does = "Changes its position by" if order.changes else "Opens" if order.opens else "Closes"
    text = f"{does} {book.order_words(order)}"
    book.tell(
        order,
        "person" if order.by == "person" else "rule" if order.by == "rule" else "desk",
        "ordered",
        text,
        order.placed_market,
        because=order.because,
    )
    if works:
        book.tell(order, "desk", State.WORKING, f"Order {order.pk} is working", now)
    notify_desk("order")
    return order


@transaction.atomic
def keep_refusal(account: Account, ticket: Ticket, client_id: str, reason: str, **facts: Any) -> None:
    """What was refused stays visible: as an order where it can be one, and in the journal."""
    venue = venue_of(account.underlying.symbol)
    now, who = market_now(venue), facts.get("by", "person")
    order = None
    readable = all(isinstance(code, str) and len(code) <= 40 for code, _ in ticket.legs) and len(ticket.legs) <= 20
    if readable and not account.orders.filter(client_id=client_id).exists():
        lots = ticket.lots if isinstance(ticket.lots, int) and 0 <= ticket.lots < 2**31 else 0
        problems: list[tuple[str, str]] = []
        limit = (
            read_limit(ticket.limit, account.underlying, len(ticket.legs), problems)
            if ticket.limit not in (None, "")
            else None
        )
        order = DeskOrder.objects.create(
            account=account, client_id=client_id, opens=ticket.holding is None, changes=ticket.changes is not None, legs=[list(leg) for leg in ticket.legs],
            lots=lots, type=str(ticket.type)[:8], limit=limit, time_in_force=str(ticket.time_in_force)[:4], state=State.REFUSED, told=True,
            reason=reason[:300], session=venue.session, placed_market=now, **{"by": "person", "because": "by hand", **facts},
        )  # fmt: skip
        notify(account.owner_id, "order", order.pk, account=account.pk, state=order.state)
    asked = {
        "legs": [list(leg) for leg in ticket.legs][:20], "lots": str(ticket.lots), "type": ticket.type,
        "limit": None if ticket.limit is None else str(ticket.limit),
    }  # fmt: skip
    journal.write(
        account.owner_id, "person" if who == "person" else "desk", "refused", reason, now, values=asked, account=account.pk,
        order=order.pk if order else None, deployment=order.deployment_id if order else None, symbol=account.underlying.symbol,
    )  # fmt: skip


def _held_order(user: User, order_id: int) -> DeskOrder:
    find_order(user, order_id)
    return locked_order(order_id)


@transaction.atomic
def cancel(user: User, order_id: int) -> DeskOrder:
    order = _held_order(user, order_id)
    if not order.alive:
        raise Conflict(f"Order {order.pk} is {order.state} already.")
    withdraw(order, "person", "cancelled by hand")
    return order


def withdraw(order: DeskOrder, who: str, reason: str) -> None:
    """Cancel an order, or ask its broker to. The order's row must be locked."""
    now = market_now(venue_of(order.account.underlying.symbol))
    if not order.alive or order.cancel_wanted:
        return
    if order.account.kind != PRACTICE:
        book.end(order, State.CANCELLED, who, reason, now)
        return
    first = order.messages.select_for_update(no_key=True).filter(kind="new").first()
    if first is not None and first.state == Outbox.State.READY:
        first.state, first.reason = Outbox.State.REFUSED, "cancelled before it was sent"
        first.save()
        book.end(order, State.CANCELLED, who, reason, now)
        return
    order.cancel_wanted, order.reason = True, reason[:300]
    order.save()
    _message(order, "cancel", None)
    book.tell(order, who, "cancel asked", f"Order {order.pk}: asked the broker to cancel, {reason}", now)


def _message(order: DeskOrder, kind: str, limit: int | None) -> Outbox:
    accepted = order.messages.filter(kind__in=("new", "replace"), state=Outbox.State.ACKNOWLEDGED).last()
    original = accepted or order.messages.get(kind="new")
    number = order.messages.count() + 1
    notify_desk("order")
    return Outbox.objects.create(
        order=order, kind=kind, cl_ord_id=f"{order.pk}-{number}", original=original.cl_ord_id, limit=limit
    )


@transaction.atomic
def change(user: User, order_id: int, price: Any) -> DeskOrder:
    """Give a working limit order another price; it goes to the end of the line."""
    order = _held_order(user, order_id)
    if order.state not in DeskOrder.AT_VENUE:
        raise Conflict(f"Order {order.pk} is {order.state}; only a working order can be changed.")
    if order.type != "limit":
        raise Conflict("Only a limit order has a price to change.")
    if order.cancel_wanted or order.new_limit is not None:
        raise Conflict("A change of this order is under way. Wait for the broker's answer.")
    problems: list[tuple[str, str]] = []
    limit = read_limit(price, order.account.underlying, len(order.legs), problems)
    if limit is None:
        raise Refused(problems[0][1], [{"path": "limit", "message": problems[0][1]}])
    broken = _collar(order, limit)
    if broken is not None:
        raise Refused(broken, [{"path": "limit", "message": broken}])
    reprice(order, limit, "person")
    return order


def _collar(order: DeskOrder, limit: int) -> str | None:
    terms = terms_of(order, limit)
    now = live(order.account.underlying.symbol)
    found = sides(terms.legs, now.quotes({leg.contract for leg in terms.legs}), terms.closes)
    row = order.account.underlying
    facts = limits.Facts(False, 0, None, Decimal(0), found, row.quantum, row.currency)
    return limits.refusal(limits.Limits.parse(order.account.limits), terms, facts)


def terms_of(order: DeskOrder, limit: int | None = None) -> Terms:
    legs = tuple(Leg(ContractKey.parse(code), ratio) for code, ratio in order.legs)
    return Terms(
        legs,
        order.lots,
        OrderType(order.type),
        order.limit if limit is None else limit,
        TimeInForce(order.time_in_force),
        closes=not order.opens,
    )


def reprice(order: DeskOrder, limit: int, who: str) -> None:
    """Change a working order's limit, or ask its broker to. The order's row must be locked."""
    if limit == order.limit:
        return
    now = market_now(venue_of(order.account.underlying.symbol))
    if order.account.kind == PRACTICE:
        order.new_limit, order.arrived_market = limit, now
        order.save()
        _message(order, "replace", limit)
        book.tell(
            order, who, "change asked", f"Order {order.pk}: asked the broker to change the price", now, limit=limit
        )
        return
    before = order.limit
    order.limit, order.arrived_market = limit, now
    order.save()
    book.tell(
        order, who, "changed", f"Order {order.pk} is now {book.order_words(order)}", now, before=before, limit=limit
    )
    notify_desk("order")


def plain_protection(shield: Protection) -> dict[str, Any]:
    """A protection as it is stored."""
    levels = (("target", shield.target), ("stop", shield.stop))
    return {name: {"value": str(level.value), "unit": level.unit} for name, level in levels if level is not None}


@transaction.atomic
def protect(user: User, holding_id: int, raw: dict[str, Any]) -> Holding:
    """Set a position's target and stop; an empty one takes them away."""
    holding = locked_holding(find_holding(user, holding_id).pk)
    if holding.closed_at is not None:
        raise Conflict("The position is closed already.")
    if holding.protected_by:
        raise Conflict(f"The {holding.protected_by} was reached; the position is being closed.")
    shield, problems = read_protection(raw)
    if problems:
        raise Refused(problems[0][1], [{"path": place, "message": text} for place, text in problems])
    now = live(holding.account.underlying.symbol)
    at = standing(holding, now)
    side = shield.judge(at.now, at.worth)
    if side is not None:
        raise Refused(
            f"The {side} is reached already; close the position instead.",
            [{"path": side, "message": "reached already"}],
        )
    holding.protection = plain_protection(shield)
    holding.save(update_fields=["protection"])
    text = ", ".join(f"{name} {level['value']} {level['unit']}" for name, level in holding.protection.items())
    journal.write(
        user.pk, "person", "protected", f"{holding.name}: {text or 'protection taken away'}", now.at,
        values=holding.protection, account=holding.account_id, symbol=now.symbol,
    )  # fmt: skip
    notify(user.pk, "position", holding.pk, account=holding.account_id)
    return holding


def closing_ticket(holding: Holding, lots: Any = None, type_: str = "market", limit: Any = None) -> Ticket:
    """The ticket that closes so many lots of a holding (all without a number)."""
    at = standing(holding, live(holding.account.underlying.symbol))
    legs = [(contract.code, -ratio) for contract, ratio in at.legs]
    return Ticket(legs, at.lots if lots is None else lots, type_, limit, "day", holding.pk)


@transaction.atomic
def take_over(user: User, account_id: int) -> Account:
    """End a quarantine: a person accepts what the broker holds, and the ledger takes it over."""
    from desk.reconcile import adopt

    account = find_account(user, account_id)
    account = hold_account(account.pk)
    if not account.quarantine:
        raise Conflict("The account is not in quarantine.")
    adopt(account, live(account.underlying.symbol))
    journal.write(
        user.pk,
        "person",
        "quarantine ended",
        f"Took over what the broker holds: {account.quarantine}",
        account=account.pk,
    )
    account.quarantine = ""
    account.save(update_fields=["quarantine"])
    notify(user.pk, "account", account.pk)
    return account
