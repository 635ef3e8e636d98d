"""The practice broker as the accepting side of the FIX session."""

from __future__ import annotations

import logging
import os
import threading
from decimal import Decimal

import quickfix as fix
from django.db import transaction

from config.faults import boundary
from config.process import outlive
from config.push import MARKET, Ear
from fix44 import messages as wire
from fix44.session import Line, Side
from market.models import Underlying
from practice_broker import book
from practice_broker.models import BrokerExecution

log = logging.getLogger("strell.broker")
IDLE_SECONDS = 2.0
"""A look without having been told anything: orders come over the line, quotes with a word."""


def quantum(symbol: str) -> Decimal:
    return Underlying.objects.get(symbol=symbol).quantum.normalize()


class Broker:
    def __init__(self) -> None:
        self._lock = threading.RLock()
        self.side = Side(self.on_message, self.on_line)

    def on_line(self, up: bool) -> None:
        if up:
            self.send_waiting()

    def on_message(self, message: fix.Message) -> None:
        with self._lock:
            kind = wire.kind_of(message)
            boundary("broker: received")
            self._handle(kind, message)
            boundary("broker: committed")
            self.send_waiting()
            self._work()

    def _handle(self, kind: str, message: fix.Message) -> None:
        if kind == wire.ASK_POSITIONS:
            self._send_positions(message)
            return
        step = quantum(wire.get(message, 55))
        if kind in (wire.NEW_SINGLE, wire.NEW_MULTILEG):
            order = wire.read_order(message, step)
            with transaction.atomic():
                drop = book.played("drop before acknowledgement")
            book.accept(order)
            if drop:
                os._exit(71)
        elif kind in (wire.REPLACE_SINGLE, wire.REPLACE_MULTILEG):
            order = wire.read_order(message, step)
            why = book.replace(order)
            if why:
                self.side.send(wire.cancel_reject_message(order.cl_ord_id, order.original, "", why, True))
        elif kind == wire.CANCEL:
            order = self._bare(message)
            why = book.cancel(order)
            if why:
                self.side.send(wire.cancel_reject_message(order.cl_ord_id, order.original, "", why, False))
        elif kind == wire.STATUS:
            book.status(self._bare(message))

    @staticmethod
    def _bare(message: fix.Message) -> wire.Wire:
        return wire.Wire(
            wire.get(message, 11), wire.get(message, 1, ""), wire.get(message, 55), (), 1, "limit", None, "day",
            wire.get(message, 41, ""),
        )  # fmt: skip

    def _send_positions(self, message: fix.Message) -> None:
        request, account = wire.get(message, 710), wire.get(message, 1)
        held: list[tuple[str, str, int]] = []
        for symbol in Underlying.objects.filter(venue__isnull=False).values_list("symbol", flat=True):
            held += [(symbol, code, n) for code, n in sorted(book.positions(account, symbol).items())]
        # whatever was dealt before is reported before the positions that follow from it
        self.send_waiting()
        self.side.send(wire.positions_ack(request, account, len(held)))
        for number, (symbol, code, contracts) in enumerate(held, 1):
            self.side.send(wire.position_message(request, number, account, symbol, code, contracts))

    def send_waiting(self) -> None:
        """Send reports that were committed and not sent, in their order."""
        with self._lock:
            for row in BrokerExecution.objects.filter(sent=False).order_by("id"):
                boundary("broker: before report")
                message = wire.report_message(row.report, quantum(row.report["symbol"]))
                self.side.send(message)
                boundary("broker: report sent")
                BrokerExecution.objects.filter(pk=row.pk).update(sent=True)
                with transaction.atomic():
                    twice = row.report["exec_type"] == "F" and book.played("duplicate report")
                    drop = row.report["exec_type"] == "0" and book.played("drop after acknowledgement")
                if twice:
                    self.side.send(wire.report_message(row.report, quantum(row.report["symbol"])))
                if drop:
                    os._exit(71)

    def _work(self) -> None:
        book.work()
        boundary("broker: matched")
        self.send_waiting()

    def run(self) -> None:
        line = Line("broker", self.side)
        outlive(self._listen)
        assert line.engine is not None

    def _listen(self) -> None:
        with Ear(MARKET) as ear:
            while True:
                with self._lock:
                    with transaction.atomic():
                        lose = book.played("lose the day")
                    if lose:
                        log.warning("lost %d orders of the day, on demand", book.lose_the_day())
                        os._exit(71)
                    self._work()
                ear.wait(IDLE_SECONDS)
