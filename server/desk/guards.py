"""Protective orders, watched by the desk whatever browsers do; and what a session begins with."""

from __future__ import annotations

import datetime as dt

from django.db import transaction

from config.errors import Refused
from config.push import notify
from desk.leader import still_leading
from desk.locks import locked_holding, locked_order
from desk.models import Account, DeskOrder, Holding
from desk.positions import standing, standings
from desk.services import closing_ticket, keep_refusal, send, withdraw
from desk.tickets import read_protection
from journal import services as journal
from market.models import Venue
from strell_core.market.prices import grouped
from venue.clock import is_open
from venue.live import Live, live


def watch(epoch: int, venue: Venue, now: Live) -> int:
    """Close what has reached its target or stop; how many were reached."""
    if now.session != venue.session or not is_open(venue) or venue.quiet:
        return 0
    protected = Holding.objects.filter(
        account__underlying=venue.underlying, closed_at=None, protected_by=""
    ).exclude(protection={}).select_related("account__underlying")  # fmt: skip
    count = 0
    for holding in protected:
        at = standing(holding, now)
        shield, _ = read_protection(holding.protection)
        side = shield.judge(at.now, at.worth)
        if side is None:
            continue
        with transaction.atomic():
            still_leading(epoch)
            held = locked_holding(holding.pk)
            if held.closed_at is not None or held.protected_by or held.protection != holding.protection:
                continue
            count += 1
            held.protected_by = side
            held.save(update_fields=["protected_by"])
            level, reached = (shield.target, at.closable) if side == "target" else (shield.stop, at.mid)
            assert level is not None and reached is not None, "a side without a level or a value is not reached"
            text = f"{held.name}: {side} reached, {grouped(reached, 2)} against {grouped(level.amount(at.premium), 2)} {now.row.currency}"
            journal.write(
                held.account.owner_id, "desk", "protection", text, now.at, account=held.account_id, symbol=now.symbol,
                values={"side": side, "mid": str(at.mid), "closable": str(at.closable)},
            )  # fmt: skip
            notify(held.account.owner_id, "position", held.pk, account=held.account_id)
    return count + close_reached(epoch, venue)


def close_reached(epoch: int, venue: Venue) -> int:
    """Send the closing order of every holding whose protection was reached and that has none at work."""
    reached = Holding.objects.filter(account__underlying=venue.underlying, closed_at=None).exclude(protected_by="")
    count = 0
    for key in list(reached.values_list("pk", flat=True)):
        with transaction.atomic():
            still_leading(epoch)
            holding = locked_holding(key)
            others = list(holding.orders.filter(state__in=DeskOrder.ALIVE))
            if any(order.by == "protection" for order in others):
                continue
            if others:
                # the rest of the entry, and closings by hand, go first: nothing may be closed twice
                for order in others:
                    withdraw(locked_order(order.pk), "desk", f"the {holding.protected_by} of the position was reached")
                continue
            recent = holding.orders.filter(by="protection").order_by("-id").first()
            if recent is not None and (dt.datetime.now(dt.UTC) - recent.changed_at).total_seconds() < 5:
                continue
            if not standing(holding, live(holding.account.underlying.symbol)).open:
                continue
            count += 1
            ticket = closing_ticket(holding)
            number = holding.orders.filter(by="protection").count() + 1
            client_id = f"protection-{holding.pk}-{number}"
            facts = {
                "by": "protection",
                "because": f"{holding.protected_by} of the position",
                "deployment": holding.deployment,
            }
        try:
            send(holding.account, ticket, client_id, **facts)
        except Refused as error:
            keep_refusal(holding.account, ticket, client_id, error.message, holding=holding, **facts)
    return count


def open_session(epoch: int, venue: Venue, now: Live) -> None:
    """Keep each account's equity at the session's first quote, for the day's loss limit."""
    due = Account.objects.filter(underlying=venue.underlying).exclude(session=venue.session)
    for account in due.select_related("underlying"):
        at = standings(account, now)
        if at.equity is None or now.session != venue.session:
            continue
        with transaction.atomic():
            still_leading(epoch)
            Account.objects.filter(pk=account.pk).update(session=venue.session, opening_equity=at.equity)
