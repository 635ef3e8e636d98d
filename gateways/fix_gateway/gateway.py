"""The gateway to the practice broker: sends what the outbox holds, keeps what comes in the inbox."""

from __future__ import annotations

import datetime as dt
import logging
import os
import threading
import uuid
from decimal import Decimal
from typing import Any

import quickfix as fix
from django.db import transaction

from config.faults import boundary
from config.process import outlive
from config.push import DESK, Ear, notify_desk
from desk import book
from desk.locks import locked_order
from desk.models import PRACTICE, Account, Connection, DeskOrder, Inbox, Outbox
from fix44 import messages as wire
from fix44.session import Line, Side
from fix_gateway import gate
from market.models import Underlying
from venue.clock import market_now, venue_of

log = logging.getLogger("strell.gateway")
State = Outbox.State
OPEN = (State.CLAIMED, State.SENT)
ASK_AGAIN = dt.timedelta(seconds=10)
IDLE_SECONDS = 2.5
"""A look without having been told anything: what waits to be sent comes with a word."""


def quantum_of(symbol: str) -> Decimal:
    return Underlying.objects.get(symbol=symbol).quantum.normalize()


def keep(execution: str, kind: str, report: dict[str, Any], cl_ord_id: str = "", account: str = "") -> None:
    """Commit a report, once."""
    _, made = Inbox.objects.get_or_create(
        execution=execution, defaults={"kind": kind, "report": report, "cl_ord_id": cl_ord_id, "account_code": account}
    )
    if made:
        notify_desk("report")


class Gateway:
    def __init__(self) -> None:
        self.side = Side(self.on_message, self.on_line)
        self._lock = threading.RLock()
        self._positions: dict[str, tuple[str, int, dict[str, int]]] = {}
        self._fresh = False

    # -- in
    def on_line(self, up: bool) -> None:
        now = dt.datetime.now(dt.UTC)
        Connection.objects.update_or_create(
            name=gate.NAME, defaults={"up": up, "since": now, "reconciled": False, "beat": now}
        )
        self._fresh = up
        notify_desk("line")
        log.info("the line to the practice broker is %s", "up" if up else "down")

    def on_message(self, message: fix.Message) -> None:
        boundary("gateway: report came")
        kind = wire.kind_of(message)
        if kind == wire.REPORT:
            report = wire.read_report(message, quantum_of(wire.get(message, 55)))
            keep(report["exec_id"], "execution", report, report["cl_ord_id"], report["account"])
        elif kind == wire.CANCEL_REJECT:
            facts = {"text": wire.get(message, 58, ""), "original": wire.get(message, 41)}
            name = wire.get(message, 11)
            keep(f"reject {name}", "cancel reject", facts, name, self._account_of(name))
        elif kind == wire.POSITIONS_ACK:
            request, total = wire.get(message, 710), int(wire.get(message, 727, "0"))
            self._positions[request] = (wire.get(message, 1), total, {})
            self._maybe_keep(request)
        elif kind == wire.POSITION:
            request, code, contracts = wire.read_position(message)
            if request in self._positions:
                self._positions[request][2][code] = contracts
                self._maybe_keep(request)
        boundary("gateway: report kept")

    @staticmethod
    def _account_of(cl_ord_id: str) -> str:
        row = Outbox.objects.filter(cl_ord_id=cl_ord_id).select_related("order__account").first()
        return row.order.account.broker_code if row else ""

    def _maybe_keep(self, request: str) -> None:
        account, total, held = self._positions[request]
        if len(held) == total:
            del self._positions[request]
            keep(f"positions {request}", "positions", {"positions": held}, "", account)

    # -- out
    def round(self) -> None:
        """Send what may go. Only this thread sends orders."""
        Connection.objects.filter(name=gate.NAME).update(beat=dt.datetime.now(dt.UTC))
        if not self.side.up:
            return
        if self._fresh:
            self._fresh = False
            self.after_sign_on()
        if not gate.line_is_ready():
            self._ask_unknown()
            return
        for key in list(Outbox.objects.filter(state=State.READY).order_by("id").values_list("pk", flat=True)):
            self.send_one(key)
        self._ask_unknown()

    def after_sign_on(self) -> None:
        """Orders whose fate is open are asked for, positions too; nothing is sent again."""
        for key, about in list(Outbox.objects.filter(state__in=OPEN).order_by("id").values_list("pk", "order_id")):
            with transaction.atomic():
                locked_order(about)
                row = Outbox.objects.select_for_update(no_key=True).filter(pk=key, state__in=OPEN).first()
                if row is not None:
                    self._doubt(row)
        self._ask_unknown(at_once=True)
        accounts = list(Account.objects.filter(kind=PRACTICE))
        for account in accounts:
            self.side.send(wire.positions_request(uuid.uuid4().hex[:16], account.broker_code))
        if not accounts:
            Connection.objects.filter(name=gate.NAME).update(reconciled=True)

    def _doubt(self, row: Outbox) -> None:
        order = locked_order(row.order_id)
        now = market_now(venue_of(order.account.underlying.symbol))
        row.state = State.UNKNOWN
        row.save()
        if row.kind == "new" and order.state in (DeskOrder.State.CLAIMED, DeskOrder.State.SENT):
            book.move_to(
                order,
                DeskOrder.State.UNKNOWN,
                "desk",
                f"Order {order.pk}: its fate is unknown, the broker is asked",
                now,
            )
        elif row.kind == "cancel" and order.alive:
            # asking again to cancel cannot do harm, and leaving it out could
            row.state, row.reason = State.REFUSED, "the line was lost; asked again"
            row.save()
            number = order.messages.count() + 1
            Outbox.objects.create(order=order, kind="cancel", cl_ord_id=f"{order.pk}-{number}", original=row.original)

    def _ask_unknown(self, at_once: bool = False) -> None:
        due = Outbox.objects.filter(state=State.UNKNOWN)
        if not at_once:
            due = due.exclude(asked_at__gt=dt.datetime.now(dt.UTC) - ASK_AGAIN)
        for row in due.select_related("order__account__underlying"):
            Outbox.objects.filter(pk=row.pk).update(asked_at=dt.datetime.now(dt.UTC))
            self.side.send(wire.status_message(self._wire(row, row.order)))

    def send_one(self, key: int) -> None:
        """Claim one message in a transaction that judges it again, then send it."""
        boundary("gateway: before claim")
        with transaction.atomic():
            about = Outbox.objects.select_related("order").get(pk=key)
            order = locked_order(about.order_id)
            row = Outbox.objects.select_for_update(no_key=True).get(pk=key)
            if row.state != State.READY:
                return
            now = market_now(venue_of(order.account.underlying.symbol))
            why = gate.refusal(order) if row.kind == "new" else None
            if row.kind != "new" and not order.alive:
                why = f"the order is {order.state} already"
            if why is not None:
                row.state, row.reason = State.REFUSED, why[:300]
                row.save()
                if row.kind == "new":
                    book.end(order, DeskOrder.State.REFUSED, "desk", why, now)
                return
            row.state, row.claimed_at = State.CLAIMED, dt.datetime.now(dt.UTC)
            row.save()
            if row.kind == "new":
                book.move_to(
                    order, DeskOrder.State.CLAIMED, "desk", f"Order {order.pk} is on its way to the broker", now
                )
            boundary("gateway: claim not committed")
        boundary("gateway: claimed")
        made = self._wire(row, order)
        if row.kind == "cancel":
            message = wire.cancel_message(made)
        else:
            message = wire.order_message(made, order.account.underlying.quantum.normalize())
        self.side.send(message)
        boundary("gateway: sent")
        with transaction.atomic():
            if Outbox.objects.filter(pk=row.pk, state=State.CLAIMED).update(state=State.SENT) and row.kind == "new":
                order = locked_order(row.order_id)
                if order.state == DeskOrder.State.CLAIMED:
                    book.move_to(order, DeskOrder.State.SENT, "desk", f"Order {order.pk} was sent to the broker", now)
        boundary("gateway: marked sent")

    @staticmethod
    def _wire(row: Outbox, order: DeskOrder) -> wire.Wire:
        limit = row.limit if row.kind == "replace" else order.limit
        return wire.Wire(
            row.cl_ord_id, order.account.broker_code, order.account.underlying.symbol,
            tuple((code, ratio) for code, ratio in order.legs), order.lots, order.type, limit, order.time_in_force, row.original,
        )  # fmt: skip

    def run(self) -> None:
        line = Line("gateway", self.side)
        outlive(lambda: self._listen(line))

    def _listen(self, line: Line) -> None:
        with Ear(DESK) as ear:
            while True:
                self.round()
                ear.wait(IDLE_SECONDS)
                if line.moved():
                    log.info("the practice broker listens elsewhere now; this process ends and is started again")
                    os._exit(0)
