"""Sending once and never again; reports counted once; differences quarantined; all without a line."""

from __future__ import annotations

import dataclasses
import datetime as dt
import json
from decimal import Decimal
from typing import Any
from unittest.mock import patch

import numpy as np
import quickfix as fix

from config.errors import Refused
from desk import deployments, services
from desk.deployed import state_of
from desk.models import Connection, DeskFill, DeskOrder, Inbox
from desk.reconcile import ledger_positions
from desk.tests.test_adjustments import rolling
from desk.tests.test_deployments import DeploymentTestCase
from desk.tests.test_worked_orders import PATIENCE, condor
from fix44 import messages as wire
from fix_gateway import gate
from fix_gateway.gateway import Gateway, keep
from journal.models import JournalEntry
from market.models import Venue
from practice_broker import book
from practice_broker.models import BrokerExecution, BrokerFault, BrokerOrder
from strategies import services as strategies

QUANTUM = Decimal("0.05")


class FakeSide:
    """A line that only remembers what was handed to it."""

    def __init__(self) -> None:
        self.sent: list[fix.Message] = []
        self.up = True

    def send(self, message: fix.Message) -> None:
        self.sent.append(message)

    def kinds(self) -> list[str]:
        return [wire.kind_of(message) for message in self.sent]


class GatewayTestCase(DeploymentTestCase):
    """A practice account, a gateway whose line is a list, and the broker's book behind it."""

    def setUp(self) -> None:
        super().setUp()
        self.practice = services.open_account(self.mara, "At the broker", "practice", "MK30", Decimal(500_000))
        self.gateway = Gateway()
        self.gateway.side = FakeSide()  # type: ignore[assignment]
        Connection.objects.create(name=gate.NAME, up=True, reconciled=True, beat=dt.datetime.now(dt.UTC))
        # plenty is offered, so that what fills in parts does so on demand
        plenty = patch("practice_exchange.exchange.sizes", lambda contracts, at: (np.full(len(contracts), 50),) * 2)
        plenty.start()
        self.addCleanup(plenty.stop)
        self.go("09:30")

    def legs(self) -> list[tuple[str, int]]:
        return [(self.contract("call", 40), -1), (self.contract("call", 70), 1)]

    def order(self, lots: int = 2, limit: Any = None, **more: Any) -> DeskOrder:
        return self.place(self.legs(), lots, limit, self.practice, **more)

    def broker_reads(self) -> None:
        """The broker takes what was sent, and its reports come in."""
        sent, self.gateway.side.sent = self.gateway.side.sent, []
        for message in sent:
            kind = wire.kind_of(message)
            if kind in (wire.NEW_SINGLE, wire.NEW_MULTILEG):
                book.accept(wire.read_order(message, QUANTUM))
            elif kind in (wire.REPLACE_SINGLE, wire.REPLACE_MULTILEG):
                book.replace(wire.read_order(message, QUANTUM))
            elif kind in (wire.CANCEL, wire.STATUS):
                bare = wire.Wire(
                    wire.get(message, 11),
                    wire.get(message, 1),
                    wire.get(message, 55),
                    (),
                    1,
                    "limit",
                    None,
                    "day",
                    wire.get(message, 41, ""),
                )
                why = (book.cancel if kind == wire.CANCEL else book.status)(bare)
                if why:
                    self.gateway.on_message(wire.cancel_reject_message(bare.cl_ord_id, bare.original, "", why, False))
        self.reports_come()

    def reports_come(self) -> None:
        for row in BrokerExecution.objects.filter(sent=False).order_by("id"):
            self.gateway.on_message(wire.report_message(row.report, QUANTUM))
            BrokerExecution.objects.filter(pk=row.pk).update(sent=True)
        self.desk.round()

    def exchange_deals(self) -> None:
        self.pass_seconds(5)
        book.work()
        self.reports_come()


class SendingTest(GatewayTestCase):
    def test_an_order_goes_out_once_and_fills(self) -> None:
        order = self.order()
        self.assertEqual(order.state, "ready")
        self.gateway.round()
        self.gateway.round()
        self.assertEqual(self.gateway.side.kinds(), ["AB"])
        self.assertEqual(self.state(order), "sent")
        self.broker_reads()
        self.assertEqual(self.state(order), "working")
        self.exchange_deals()
        self.assertEqual(self.state(order), "filled")
        self.assertEqual(dict(ledger_positions(self.practice)), book.positions(self.practice.broker_code, "MK30"))

    def test_partial_fills_are_a_position_at_once(self) -> None:
        BrokerFault.objects.create(kind="partial fill", left=1)
        order = self.order(lots=3)
        self.gateway.round()
        self.broker_reads()
        self.exchange_deals()
        order.refresh_from_db()
        self.assertEqual((order.state, order.filled), ("partly filled", 1))
        self.assertIsNotNone(order.holding)
        self.exchange_deals()
        self.assertEqual(self.state(order), "filled")
        self.assertEqual(order.holding.fills.count(), 2)

    def test_a_change_and_a_cancel_wait_for_the_brokers_answer(self) -> None:
        order = self.order(limit="-50.00")
        self.gateway.round()
        self.broker_reads()
        services.change(self.mara, order.pk, "-49.00")
        order.refresh_from_db()
        self.assertEqual((order.limit, order.new_limit), (-1000, -980))
        self.gateway.round()
        self.broker_reads()
        order.refresh_from_db()
        self.assertEqual((order.limit, order.new_limit), (-980, None))
        services.cancel(self.mara, order.pk)
        self.assertEqual(self.state(order), "working")
        self.gateway.round()
        self.broker_reads()
        self.assertEqual(self.state(order), "cancelled")

    def test_a_cancel_that_comes_too_late_leaves_the_fill(self) -> None:
        order = self.order()
        self.gateway.round()
        self.broker_reads()
        services.cancel(self.mara, order.pk)
        self.pass_seconds(5)
        book.work()
        self.gateway.round()
        self.broker_reads()
        order.refresh_from_db()
        self.assertEqual((order.state, order.cancel_wanted), ("filled", False))

    def test_an_order_that_was_not_sent_yet_is_cancelled_here(self) -> None:
        order = self.order()
        services.cancel(self.mara, order.pk)
        self.gateway.round()
        self.assertEqual((self.state(order), self.gateway.side.sent), ("cancelled", []))

    def test_rejections_carry_their_reason(self) -> None:
        BrokerFault.objects.create(kind="reject", left=1)
        order = self.order()
        self.gateway.round()
        self.broker_reads()
        self.assertEqual((self.state(order), order.reason), ("rejected", "rejected on demand"))


class GateTest(GatewayTestCase):
    def kept_back(self, order: DeskOrder, words: str) -> None:
        self.gateway.round()
        order.refresh_from_db()
        self.assertEqual((order.state, self.gateway.side.sent), ("refused", []))
        self.assertIn(words, order.reason)

    def test_halted_after_it_was_placed(self) -> None:
        order = self.order()
        self.practice.locked_in = self.venue().generation
        self.practice.save()
        self.kept_back(order, "halted")

    def test_limits_that_changed_after_it_was_placed(self) -> None:
        order = self.order(lots=3)
        services.set_limits(self.mara, self.practice.pk, {"lots": 2})
        self.kept_back(order, "limit of 2")

    def test_a_price_that_the_market_left_far_behind(self) -> None:
        order = self.order(limit="-50.00")
        DeskOrder.objects.filter(pk=order.pk).update(limit=4000)
        self.kept_back(order, "too far beyond")

    def test_old_quotes(self) -> None:
        order = self.order()
        Venue.objects.update(running=True, market_anchor=self.venue().reached + 90)
        self.kept_back(order, "old; nothing is opened")

    def test_an_intent_that_expired(self) -> None:
        order = self.order()
        DeskOrder.objects.filter(pk=order.pk).update(expires_market=self.venue().reached - 1)
        self.kept_back(order, "expired")

    def test_a_deployment_that_was_disarmed(self) -> None:
        self.finished_run()
        made = deployments.promote(self.mara, self.strategy.pk, self.practice.pk, 1, {}, True)
        order = self.order()
        DeskOrder.objects.filter(pk=order.pk).update(by="rule", deployment=made)
        self.kept_back(order, "not armed")

    def test_nothing_is_sent_before_the_line_is_up_and_positions_agree(self) -> None:
        order = self.order()
        Connection.objects.update(reconciled=False)
        self.gateway.round()
        self.assertEqual((self.state(order), self.gateway.side.sent), ("ready", []))
        self.gateway.side.up = False
        Connection.objects.update(reconciled=True)
        self.gateway.round()
        self.assertEqual(self.state(order), "ready")


class DoubtTest(GatewayTestCase):
    """A crash between claim and acknowledgement: the status is asked for, nothing is sent again."""

    def doubtful(self, reached: bool) -> DeskOrder:
        order = self.order()
        self.gateway.round()
        if reached:
            book.accept(wire.read_order(self.gateway.side.sent[0], QUANTUM))
            BrokerExecution.objects.update(sent=True)  # and its report was lost
        self.gateway.side.sent = []
        self.gateway.on_line(True)
        self.gateway.round()
        self.assertEqual(self.state(order), "unknown")
        self.assertEqual(self.gateway.side.kinds()[0], wire.STATUS)
        self.assertNotIn("AB", self.gateway.side.kinds())
        return order

    def test_what_the_broker_has_goes_on(self) -> None:
        order = self.doubtful(reached=True)
        self.broker_reads()
        self.assertEqual(self.state(order), "working")

    def test_what_never_reached_the_broker_is_not_sent_again(self) -> None:
        order = self.doubtful(reached=False)
        self.broker_reads()
        self.assertEqual(self.state(order), "cancelled")
        self.assertIn("never reached the broker", order.reason)
        self.gateway.round()
        self.assertEqual(BrokerOrder.objects.count(), 0)

    def test_a_cancel_in_doubt_is_asked_again(self) -> None:
        order = self.order(limit="-50.00")
        self.gateway.round()
        self.broker_reads()
        services.cancel(self.mara, order.pk)
        self.gateway.round()
        self.gateway.side.sent = []
        self.gateway.on_line(True)
        self.gateway.round()
        Connection.objects.update(reconciled=True)
        self.gateway.round()
        self.broker_reads()
        self.assertEqual(self.state(order), "cancelled")

    def test_an_id_that_the_broker_knows_is_not_taken_twice(self) -> None:
        order = self.order()
        self.gateway.round()
        message = wire.read_order(self.gateway.side.sent[0], QUANTUM)
        book.accept(message)
        book.accept(message)
        self.assertEqual(BrokerOrder.objects.count(), 1)
        self.reports_come()
        self.assertEqual(self.state(order), "working", "the duplicate's rejection is not the order's")


class ReportsTest(GatewayTestCase):
    def filled(self) -> DeskOrder:
        order = self.order()
        self.gateway.round()
        self.broker_reads()
        self.exchange_deals()
        self.assertEqual(self.state(order), "filled")
        return order

    def test_a_wing_that_nobody_bids_for_is_given_away_to_close_and_not_sold_short(self) -> None:
        holding = self.filled().holding
        wing = self.legs()[1][0]
        closing = services.place(self.practice, services.closing_ticket(holding))
        self.gateway.round()
        self.broker_reads()
        self.quote({wing: ("0.00", "0.10")}, size=50)
        book.work()
        self.reports_come()
        self.assertEqual(self.state(closing), "filled")
        self.assertEqual({code: parts for code, _, parts in closing.fills.get().legs}[wing], 0)
        with self.assertRaisesRegex(Refused, "price on both sides"):
            services.place(self.practice, services.Ticket([(wing, -1)], 1, "limit", "0.05"))

    def test_a_report_that_comes_twice_counts_once(self) -> None:
        self.filled()
        before = dict(ledger_positions(self.practice))
        for row in BrokerExecution.objects.all():
            self.gateway.on_message(wire.report_message(row.report, QUANTUM))
        self.desk.round()
        self.assertEqual(dict(ledger_positions(self.practice)), before)
        self.assertEqual(DeskFill.objects.filter(account=self.practice).count(), 1)

    def test_more_than_was_ordered_puts_the_account_in_quarantine(self) -> None:
        order = self.filled()
        row = BrokerExecution.objects.filter(report__exec_type="F").get()
        self.gateway.on_message(wire.report_message({**row.report, "exec_id": "another"}, QUANTUM))
        self.desk.round()
        self.practice.refresh_from_db()
        self.assertIn("cannot be", self.practice.quarantine)
        with self.assertRaisesRegex(Refused, "quarantine"):
            services.place(self.practice, services.Ticket(self.legs(), 1, "market"))
        self.assertEqual(services.place(self.practice, services.closing_ticket(order.holding)).state, "ready")

    def test_a_report_on_nothing_of_ours_is_kept_and_harmless(self) -> None:
        self.filled()
        row = BrokerExecution.objects.first()
        self.gateway.on_message(wire.report_message({**row.report, "exec_id": "x", "cl_ord_id": "999-1"}, QUANTUM))
        self.desk.round()
        self.assertIn("no order of ours", Inbox.objects.get(execution="x").problem)

    def positions(self, held: dict[str, int], request: str = "q") -> None:
        keep(f"positions {request}", "positions", {"positions": held}, "", self.practice.broker_code)
        self.desk.round()
        self.practice.refresh_from_db()

    def test_positions_that_agree_open_the_line(self) -> None:
        self.filled()
        Connection.objects.update(reconciled=False)
        self.positions(book.positions(self.practice.broker_code, "MK30"))
        self.assertEqual(self.practice.quarantine, "")
        self.assertTrue(Connection.objects.get().reconciled)

    def test_positions_that_differ_are_quarantined_never_repaired_and_taken_over_by_a_person(self) -> None:
        order = self.filled()
        code = order.legs[0][0]
        self.positions({code: 5})
        self.assertIn("broker +5, ledger \u22122", self.practice.quarantine)
        self.assertEqual(DeskOrder.objects.count(), 1, "nothing is flattened by guess")
        self.assertTrue(JournalEntry.objects.filter(kind="quarantine").exists())
        services.take_over(self.mara, self.practice.pk)
        self.practice.refresh_from_db()
        self.assertEqual((self.practice.quarantine, dict(ledger_positions(self.practice))), ("", {code: 5}))
        self.positions({code: 5}, "again")
        self.assertEqual(self.practice.quarantine, "")

    def test_positions_are_not_compared_while_an_order_is_in_doubt(self) -> None:
        self.filled()
        order = self.order()
        DeskOrder.objects.filter(pk=order.pk).update(state="unknown")
        self.positions({})
        self.assertEqual(self.practice.quarantine, "")
        self.assertTrue(Inbox.objects.filter(kind="positions", applied_at=None).exists())

    def test_a_broker_that_lost_its_day_is_noticed(self) -> None:
        self.filled()
        book.lose_the_day()
        self.positions(book.positions(self.practice.broker_code, "MK30"))
        self.assertIn("Broker and ledger differ", self.practice.quarantine)


class AccountsTest(GatewayTestCase):
    """The broker takes orders of accounts that were opened with it, under codes that nobody guesses."""

    def reports(self) -> list[str]:
        return [row.report.get("text", "") for row in BrokerExecution.objects.order_by("id")]

    def test_codes_are_long_and_another_each(self) -> None:
        other = services.open_account(self.mara, "Another", "practice", "MK30", Decimal(50_000))
        self.assertRegex(self.practice.broker_code, r"^PB-[0-9A-F]{16}$")
        self.assertNotEqual(self.practice.broker_code, other.broker_code)
        self.assertEqual(self.account.broker_code, "", "paper is kept here")

    def test_an_unknown_account_gets_nothing(self) -> None:
        order = wire.Wire("stolen-1", "PB-0000000000000000", "MK30", tuple(self.legs()), 1, "market", None, "day")
        book.accept(order)
        self.assertEqual((self.reports(), BrokerOrder.objects.count()), (["unknown account"], 0))

    def test_an_order_is_its_own_accounts_only(self) -> None:
        other = services.open_account(self.mara, "Another", "practice", "MK30", Decimal(50_000))
        mine = wire.Wire("mine-1", self.practice.broker_code, "MK30", tuple(self.legs()), 1, "limit", -9_000, "day")
        book.accept(mine)
        theirs = dataclasses.replace(mine, account=other.broker_code, cl_ord_id="theirs-1", original="mine-1")
        self.assertEqual((book.cancel(theirs), book.replace(theirs)), ("unknown order", "unknown order"))
        book.status(dataclasses.replace(theirs, cl_ord_id="mine-1"))
        self.assertEqual(self.reports()[-1], "unknown order")
        self.assertEqual(BrokerOrder.objects.get().state, "new")


class DeployedTest(GatewayTestCase):
    def test_rules_trade_at_the_broker_and_leave(self) -> None:
        self.account = self.practice
        deployment = self.daily(time="09:40", premium_stop=1)
        for minute in range(40, 60, 5):
            self.go(f"09:{minute}")
            self.gateway.round()
            self.broker_reads()
            self.exchange_deals()
        for hour, minute in ((10, 0), (10, 30), (11, 0), (11, 30), (12, 0)):
            self.go(f"{hour}:{minute:02d}")
            self.gateway.round()
            self.broker_reads()
            self.exchange_deals()
        opened, closed = DeskOrder.objects.filter(by="rule").order_by("id")[:2]
        self.assertEqual((opened.state, closed.state, closed.opens), ("filled", "filled", False))
        self.go("12:30")
        deployment.refresh_from_db()
        self.assertEqual(json.loads(deployment.state)["trades"], [])
        self.assertEqual(dict(ledger_positions(self.practice)), book.positions(self.practice.broker_code, "MK30"))

    def test_an_adjustment_is_one_order_at_the_broker(self) -> None:
        strategy = strategies.create(self.mara, rolling())
        self.finished_run(strategy)
        made = deployments.promote(self.mara, strategy.pk, self.practice.pk, 1, {}, True)
        deployment = deployments.arm(self.mara, made.pk)
        for time in ("09:40", "09:45", "09:50", "10:00", "10:05", "10:10"):
            self.go(time)
            self.gateway.round()
            self.broker_reads()
            self.exchange_deals()
        self.go("10:20")
        change = DeskOrder.objects.get(by="rule", changes=True)
        self.assertEqual((change.state, len(change.legs)), ("filled", 2), change.reason)
        deployment.refresh_from_db()
        (trade,) = state_of(deployment).trades
        held = {leg.contract.code: leg.contracts for leg in trade.legs}
        self.assertEqual(held, dict(ledger_positions(self.practice)))
        self.assertEqual(held, book.positions(self.practice.broker_code, "MK30"))

    def test_legs_come_one_after_another_and_their_limits_walk(self) -> None:
        patience = {**PATIENCE, "minutes": 1, "start": -100, "step": 100}
        strategy = strategies.create(
            self.mara, condor({"rule": "leg_by_leg", "how": "sides", "rest": "undo"}, patience)
        )
        self.finished_run(strategy)
        made = deployments.promote(self.mara, strategy.pk, self.practice.pk, 1, {}, True)
        deployment = deployments.arm(self.mara, made.pk)
        for time in ("09:40", "09:45", "09:50", "09:55", "10:00"):
            self.go(time)
            for _ in range(5):
                self.gateway.round()
                self.broker_reads()
                self.exchange_deals()
                self.pass_seconds(40)
        rows = list(DeskOrder.objects.filter(by="rule").order_by("id"))
        self.assertEqual(
            [(row.state, [ratio for _, ratio in row.legs]) for row in rows], [("filled", [1, 1]), ("filled", [-1, -1])]
        )
        # the own side first, then further: every change was asked of the broker, once a step or snapshot
        changes = [list(row.messages.filter(kind="replace").values_list("limit", flat=True)) for row in rows]
        self.assertTrue(any(changes), "no limit walked")
        for limits in changes:
            self.assertEqual(limits, sorted(limits), "it walked back")
            self.assertLessEqual(len(limits), 8)
        deployment.refresh_from_db()
        (trade,) = state_of(deployment).trades
        held = {leg.contract.code: leg.contracts for leg in trade.legs}
        self.assertEqual((len(held), held), (4, dict(ledger_positions(self.practice))))
        self.assertEqual(held, book.positions(self.practice.broker_code, "MK30"))
