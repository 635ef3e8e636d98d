"""Whoever deals in an account at the same time as another: a position is closed once, its capital is spent once.

One of two stops before a statement of its own, the other runs as far as it can, then the first goes on: before every
statement that reads or writes orders, fills or positions, under the database's own isolation.
"""

from __future__ import annotations

import datetime as dt
import threading
import unittest
from collections.abc import Callable
from contextlib import suppress
from decimal import Decimal
from typing import Any, ClassVar

from django.contrib.auth.models import User
from django.db import connection
from django.test import tag

from config.errors import Conflict, Refused
from config.tests.demo import load_short_scenario
from desk import deployments, guards, leader, paper, services
from desk.models import Account, DeskOrder, Holding
from desk.positions import moves, standing
from desk.tests.desk import first_tick
from desk.tickets import Ticket
from market.calendars import calendar_for
from market.models import LiveChain, RecordedSnapshot, Underlying, Venue
from practice_exchange.exchange import Exchange
from strell_core.engine.ledger import holdings
from venue.clock import open_venue, venue_of
from venue.live import live


def first_session() -> None:
    """The market stands before the first session after its history, nothing published yet."""
    row = Underlying.objects.get(symbol="MK30")
    plain = Venue.objects.get(underlying=row).scenario
    for gone in (Venue, LiveChain, RecordedSnapshot):
        gone.objects.filter(underlying=row).delete()
    calendar, last = calendar_for(row), row.chains.filter(current=True).latest("date").date
    session = calendar.between(last + dt.timedelta(days=1), last + dt.timedelta(days=14))[0]
    open_venue(row, plain, session, calendar.session(session).open)


TABLES = ("desk_deskorder", "desk_deskfill", "desk_holding", "desk_account")
LONG = 20.0
BLOCKED = 0.35
"""Seconds after which the second of two counts as waiting for the first."""
Act = Callable[[], Any]


@tag("long")
class AtOnceTest(unittest.TestCase):
    """What is done here is committed: others have to see it. It is taken away again."""

    databases: ClassVar[set[str]] = {"default"}

    def setUp(self) -> None:
        assert str(connection.settings_dict["NAME"]).startswith("test_")
        load_short_scenario()
        self.mara = User.objects.create_user("bruno", password="quiet-harbour-9")
        self.addCleanup(self.clear)
        first_session()
        first_tick(Exchange("MK30"))
        self.epoch = leader.new_epoch()
        self.number = 0

    def clear(self) -> None:
        Account.objects.filter(owner=self.mara).delete()
        self.mara.delete()
        first_session()
        connection.close()

    def position(self) -> Holding:
        """A new account that holds one call, with a closing order at work that the market will fill."""
        Account.objects.filter(owner=self.mara).delete()
        self.number += 1
        self.account = services.open_account(self.mara, f"Paper {self.number}", "paper", "MK30", Decimal(50_000))
        leader.beat(self.epoch)
        now = live("MK30")
        call = min((c for c in now.chain.contracts if c.right == "call"), key=lambda c: abs(c.strike - now.spot))
        services.place(self.account, Ticket([(call.code, 1)], 1, "market"))
        self.matched()
        return Holding.objects.get(account=self.account)

    def matched(self) -> None:
        """The desk's look at its orders, on quotes that came after them."""
        venue, now = venue_of("MK30"), live("MK30")
        paper.accept(self.epoch, venue)
        DeskOrder.objects.filter(account=self.account, state="working").update(arrived_market=now.at - 60)
        paper.match_all(self.epoch, venue, now)

    def closing(self, holding: Holding, name: str) -> None:
        with suppress(Refused, Conflict):
            ticket = services.closing_ticket(holding)
            services.place(self.account, Ticket(ticket.legs, 1, "market", None, "day", holding.pk, client_id=name))

    def protected(self) -> None:
        Holding.objects.filter(account=self.account, closed_at=None).update(protected_by="stop")
        guards.close_reached(self.epoch, venue_of("MK30"))

    def acts(self, holding: Holding, name: str) -> dict[str, Act]:
        return {
            "a ticket": lambda: self.closing(holding, f"{name} {self.number}"),
            "the market": self.matched,
            "protection": self.protected,
            "Halt": lambda: deployments.halt([self.account], "person", "a test", True),
        }

    def run_until(
        self, act: Act, stop: int, pause: threading.Event, go_on: threading.Event
    ) -> tuple[threading.Thread, dict[str, Any]]:
        """``act`` in a thread of its own, which waits before its statement number ``stop`` on the desk's tables."""
        told: dict[str, Any] = {"statements": 0}

        def watch(execute: Any, sql: str, params: Any, many: bool, context: Any) -> Any:
            if any(table in sql for table in TABLES):
                told["statements"] += 1
                if told["statements"] == stop:
                    pause.set()
                    go_on.wait(LONG)
            return execute(sql, params, many, context)

        def run() -> None:
            try:
                with connection.execute_wrapper(watch):
                    act()
            except Exception as problem:
                told["problem"] = problem
            finally:
                pause.set()
                connection.close()

        thread = threading.Thread(target=run)
        thread.start()
        return thread, told

    def two(self, first: Act, second: Act, stop: int) -> bool:
        """The second runs while the first stands before a statement; whether it has as many."""
        pause, go_on = threading.Event(), threading.Event()
        one, told = self.run_until(first, stop, pause, go_on)
        self.assertTrue(pause.wait(LONG))
        reached = told["statements"] == stop
        other, also = self.run_until(second, 0, threading.Event(), threading.Event())
        other.join(BLOCKED)
        go_on.set()
        one.join(LONG)
        other.join(LONG)
        for said in (told, also):
            self.assertNotIn("problem", said, said.get("problem"))
        return reached

    def judged(self, holding: Holding, names: str) -> None:
        # whatever was sent and may still fill is filled
        self.matched()
        self.matched()
        holding.refresh_from_db()
        held = holdings(moves(holding.fills.order_by("id")))
        left = [item.contracts for item in held.values() if item.contracts]
        self.assertEqual(left, [] if holding.closed_at else left, names)
        self.assertTrue(all(contracts > 0 for contracts in left), f"{names}: it turned around: {left}")
        account = Account.objects.get(pk=self.account.pk)
        self.assertEqual(account.quarantine, "", names)
        at_work = sum(order.left for order in holding.orders.filter(opens=False, state__in=DeskOrder.ALIVE))
        self.assertLessEqual(at_work, sum(left), f"{names}: more is on its way out than is held")

    def test_a_position_is_closed_once_whoever_closes_it(self) -> None:
        boundaries = 0
        for one in ("a ticket", "the market", "protection", "Halt"):
            for other in ("a ticket", "the market", "protection", "Halt"):
                if one == other == "the market":
                    continue
                stop, more = 1, True
                while more and stop <= 14:
                    holding = self.position()
                    if "the market" in (one, other):
                        self.closing(holding, f"at work {self.number}")
                    acts = self.acts(holding, "first"), self.acts(holding, "second")
                    with self.subTest(first=one, second=other, statement=stop):
                        more = self.two(acts[0][one], acts[1][other], stop)
                        self.judged(holding, f"{one} stopped before {stop}, {other}")
                    boundaries += 1
                    # every third statement: reads of one table follow each other
                    stop += 3
        self.assertGreater(boundaries, 60)

    def test_a_fill_that_a_position_does_not_hold_quarantines(self) -> None:
        holding = self.position()
        self.closing(holding, "once")
        order = holding.orders.get(opens=False)
        twice = DeskOrder.objects.get(pk=order.pk)
        twice.pk, twice.client_id = None, "twice"
        twice.save()
        self.matched()
        account = Account.objects.get(pk=self.account.pk)
        self.assertIn("does not hold", account.quarantine)
        holding.refresh_from_db()
        self.assertIsNone(holding.closed_at, "what its fills leave is there to be closed")
        self.assertEqual([held.contracts for held in standing(holding, live("MK30")).open], [-1])
