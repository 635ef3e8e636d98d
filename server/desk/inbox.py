"""Applying a broker's reports to orders, each once, in the order in which they came."""

from __future__ import annotations

import datetime as dt
from typing import Any

from django.db import transaction

from config.faults import boundary
from desk import book
from desk.leader import still_leading
from desk.locks import hold_account, locked_order
from desk.models import Account, Connection, DeskOrder, Inbox, Outbox
from desk.quarantine import quarantine
from desk.reconcile import compare
from venue.clock import market_now, venue_of

State = DeskOrder.State
FIX = "practice broker"


def apply_all(epoch: int) -> int:
    """Apply what has come; how many reports."""
    count = 0
    for key in list(Inbox.objects.filter(applied_at=None).order_by("id").values_list("pk", flat=True)):
        with transaction.atomic():
            still_leading(epoch)
            row = Inbox.objects.select_for_update(no_key=True).get(pk=key)
            if row.applied_at is not None:
                continue
            if row.kind == "positions":
                continue
            try:
                with transaction.atomic():
                    row.problem = _apply(row)[:300]
            except book.Overfilled as error:
                row.problem = str(error)[:300]
                _quarantine(row, str(error))
            row.applied_at = dt.datetime.now(dt.UTC)
            row.save(update_fields=["applied_at", "problem"])
            boundary("desk: report not committed")
            count += 1
    count += _positions(epoch)
    return count


def _positions(epoch: int) -> int:
    """Compare each account's last reported positions, when nothing of it is in flight."""
    count = 0
    waiting = Inbox.objects.filter(applied_at=None, kind="positions").order_by("id")
    latest = {row.account_code: row for row in waiting}
    for code, row in latest.items():
        account = Account.objects.exclude(broker_code="").filter(broker_code=code).first()
        agreed = True if account is None else compare(epoch, account.pk, row.report["positions"])
        if agreed is None:
            continue
        count += 1
        Inbox.objects.filter(applied_at=None, kind="positions", account_code=code, pk__lte=row.pk).update(
            applied_at=dt.datetime.now(dt.UTC), problem="" if agreed else "broker and ledger differ"
        )
    if latest and not Inbox.objects.filter(applied_at=None, kind="positions").exists():
        Connection.objects.filter(name=FIX).update(reconciled=True)
    return count


def _quarantine(row: Inbox, why: str) -> None:
    account = Account.objects.exclude(broker_code="").filter(broker_code=row.account_code).first()
    if account is not None:
        quarantine(hold_account(account.pk), f"The broker reported what cannot be: {why}.", "broker")


def _apply(row: Inbox) -> str:
    """Apply one report; what was odd about it, or nothing."""
    report = row.report
    message = Outbox.objects.filter(cl_ord_id=row.cl_ord_id).first()
    if message is None:
        return "no order of ours has this client order id"
    order = locked_order(message.order_id)
    message = Outbox.objects.select_for_update(no_key=True).get(pk=message.pk)
    now = market_now(venue_of(order.account.underlying.symbol))
    if row.kind == "cancel reject":
        return _cancel_rejected(order, message, report, now)
    return _execution(order, message, report, now, row.execution)


def _cancel_rejected(order: DeskOrder, message: Outbox, report: dict[str, Any], now: int) -> str:
    message.state, message.reason = Outbox.State.REFUSED, report.get("text", "")[:300]
    message.save()
    if message.kind == "replace":
        order.new_limit = None
    else:
        order.cancel_wanted = False
    order.save()
    book.tell(
        order,
        "broker",
        "change refused",
        f"Order {order.pk}: the broker refused to {message.kind} it, {report.get('text', '')}",
        now,
    )
    return ""


def _execution(order: DeskOrder, message: Outbox, report: dict[str, Any], now: int, execution: str) -> str:
    if message.state in (Outbox.State.CLAIMED, Outbox.State.SENT, Outbox.State.UNKNOWN):
        message.state = Outbox.State.ACKNOWLEDGED
        message.save()
    if report.get("order_id") and not order.broker_id:
        order.broker_id = report["order_id"]
        order.save(update_fields=["broker_id"])
    kind, status = report["exec_type"], report["status"]
    if report.get("duplicate"):
        return "the broker has this order already"
    if kind == "F":
        at = report.get("market_at") or now
        book.book_fill(order, execution, at, report["lots"], report["prices"], "broker")
        return ""
    if kind == "5":
        before = order.limit
        order.limit, order.new_limit = report["limit"], None
        order.save()
        book.tell(order, "broker", "changed", f"Order {order.pk} is now {book.order_words(order)}", now, before=before)
        return ""
    if kind == "I":
        return _status(order, message, report, now)
    after = {"0": State.WORKING, "4": State.CANCELLED, "8": State.REJECTED, "C": State.EXPIRED}.get(kind)
    if after is None:
        return f"execution type {kind} of status {status} says nothing here"
    text = report.get("text", "")
    if after == State.WORKING:
        if order.state in (State.READY, State.CLAIMED, State.SENT, State.UNKNOWN):
            book.move_to(order, State.WORKING, "broker", f"Order {order.pk} is working at the broker", now)
        return ""
    if after == State.REJECTED:
        message.state, message.reason = Outbox.State.REFUSED, text[:300]
        message.save()
    book.end(
        order, after, "broker", order.reason if after == State.CANCELLED and order.cancel_wanted else text or after, now
    )
    return ""


def _status(order: DeskOrder, message: Outbox, report: dict[str, Any], now: int) -> str:
    """An answer to a question about an order whose fate was unknown."""
    if report.get("unknown_order"):
        message.state, message.reason = Outbox.State.REFUSED, "the broker never had it"
        message.save()
        if message.kind == "new":
            book.end(order, State.CANCELLED, "broker", "it never reached the broker and is not sent again", now)
        elif message.kind == "cancel":
            order.cancel_wanted = False
            order.save()
        else:
            order.new_limit = None
            order.save()
        return ""
    if order.state in (State.CLAIMED, State.SENT, State.UNKNOWN):
        book.move_to(order, State.WORKING, "broker", f"Order {order.pk} is known to the broker", now)
    return ""
