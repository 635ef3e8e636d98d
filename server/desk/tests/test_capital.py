"""Every order is judged by the position it leaves: free capital is never below zero by an order that was accepted."""

from __future__ import annotations

import os
import random
from decimal import Decimal

from django.test import tag

from config.errors import Refused
from desk import services
from desk.models import DeskOrder, Holding
from desk.positions import standing, standings
from desk.tests.desk import DeskTestCase
from desk.tickets import MOST_CLOSING, Ticket
from venue.live import live

STEPS = int(os.environ.get("STRELL_STEPS", "150"))
"""Two thousand are tried by hand: they take minutes."""


class CapitalCase(DeskTestCase):
    def setUp(self) -> None:
        super().setUp()
        self.near, self.far = self.contract("call", 40), self.contract("call", 90)
        services.set_limits(self.mara, self.account.pk, dict.fromkeys(self.account.limits))
        self.account.refresh_from_db()

    def prices(self, size: int = 500) -> None:
        self.quote({self.near: ("9.80", "10.20"), self.far: ("3.90", "4.10")}, size=size)

    def sold(self, lots: int) -> Holding:
        """A call spread sold, filled."""
        self.prices()
        order = self.place([(self.near, -1), (self.far, 1)], lots)
        self.prices()
        self.assertEqual(self.state(order), "filled")
        return order.holding

    def free(self) -> Decimal:
        found = standings(self.account, live("MK30")).free
        assert found is not None
        return found


class ClosingTest(CapitalCase):
    def test_the_long_of_a_spread_is_not_sold_when_the_short_alone_needs_more_than_there_is(self) -> None:
        holding = self.sold(18)
        free = self.free()
        self.assertGreater(free, 0)
        with self.assertRaisesRegex(
            Refused, r"What it leaves takes [\d\u00a0]+ \w+ of capital more; free is"
        ) as caught:
            services.place(self.account, Ticket([(self.far, -1)], 18, "market", holding=holding.pk))
        self.assertEqual([p["path"] for p in caught.exception.problems], ["capital"])
        self.prices()
        self.assertEqual(standing(holding, live("MK30")).lots, 18)
        # all in one order, or the short alone, needs nothing
        for legs in ([(self.near, 1), (self.far, -1)], [(self.near, 1)]):
            services.place(self.account, Ticket(legs, 1, "market", holding=holding.pk))
        self.prices()
        self.assertGreaterEqual(self.free(), 0)

    def test_it_may_be_sold_where_there_is_capital_for_what_is_left(self) -> None:
        holding = self.sold(1)
        free = self.free()
        services.place(self.account, Ticket([(self.far, -1)], 1, "limit", "-8.00", holding=holding.pk))
        reserved = self.free()
        self.assertLess(reserved, free, "reserved from when it is at work")
        self.prices()
        self.assertEqual(self.free(), reserved)

    def test_two_orders_that_close_a_leg_each_are_not_taken_for_one(self) -> None:
        holding = self.sold(18)
        services.place(self.account, Ticket([(self.near, 1)], 18, "limit", "8.00", holding=holding.pk))
        with self.assertRaisesRegex(Refused, "What it leaves takes"):
            services.place(self.account, Ticket([(self.far, -1)], 18, "limit", "-4.00", holding=holding.pk))

    def test_what_a_working_close_may_leave_is_not_spent_twice(self) -> None:
        holding = self.sold(1)
        services.place(self.account, Ticket([(self.far, -1)], 1, "limit", "-8.00", holding=holding.pk))
        spread = [(self.near, -1), (self.far, 1)]
        lots = int(self.free() // services.preview(self.mara, self.account.pk, Ticket(spread, 1, "market")).capital)
        self.assertLess(lots, 20, "the rest is kept for the short that may stand alone")
        self.place(spread, lots)
        self.prices()
        self.assertGreaterEqual(self.free(), 0)
        with self.assertRaisesRegex(Refused, "of capital; free is"):
            self.place(spread, 1)

    def test_only_so_many_closing_orders_at_once(self) -> None:
        holding = self.sold(18)
        for _ in range(MOST_CLOSING):
            services.place(
                self.account, Ticket([(self.near, 1), (self.far, -1)], 1, "limit", "1.00", holding=holding.pk)
            )
        with self.assertRaisesRegex(Refused, "cancel one of them"):
            services.place(
                self.account, Ticket([(self.near, 1), (self.far, -1)], 1, "limit", "1.00", holding=holding.pk)
            )

    def test_closing_what_is_held_is_never_refused_for_capital(self) -> None:
        holding = self.sold(18)
        self.quote({self.near: ("78.00", "82.00"), self.far: ("3.00", "5.00")}, size=500)
        self.assertLess(self.free(), 0)
        services.place(self.account, services.closing_ticket(holding, 9))
        self.quote({self.near: ("78.00", "82.00"), self.far: ("3.00", "5.00")}, size=500)
        self.assertEqual(standing(holding, live("MK30")).lots, 9)

    def test_nothing_is_opened_while_what_is_free_cannot_be_told(self) -> None:
        holding = self.sold(1)
        other = self.contract("put", -60)
        self.quote({self.near: ("-0.05", "-0.05"), other: ("3.90", "4.10")}, size=500)
        self.assertIsNone(standings(self.account, live("MK30")).free)
        with self.assertRaisesRegex(Refused, "what is free cannot be told now"):
            self.place([(other, -1)], 1)
        services.place(self.account, Ticket([(self.near, 1)], 1, "limit", "8.00", holding=holding.pk))
        self.prices()
        self.assertEqual(self.state(self.place([(other, -1)], 1)), "working", "and again when it can")


@tag("long")
class SequenceTest(CapitalCase):
    """Many steps by hand at prices that stand, so that nothing but orders moves what is free."""

    def test_many_steps(self) -> None:
        dice = random.Random(20261129)
        codes = [
            self.contract(right, away)
            for right, aways in (("call", (30, 60, 90)), ("put", (-30, -60, -90)))
            for away in aways
        ]
        now = live("MK30")
        prices = {code: (f"{9 - 2 * (i % 3)}.80", f"{10 - 2 * (i % 3)}.20") for i, code in enumerate(codes)}
        self.assertEqual(len(set(codes)), 6, now.spot)
        self.quote(prices, size=3)
        accepted = refused = dealt = 0
        lowest = self.free()
        for step in range(STEPS):
            try:
                if dice.random() < 0.35:
                    self.quote(prices, size=dice.randint(1, 6))
                    dealt += 1
                else:
                    self.act(dice, codes)
                    accepted += 1
            except Refused:
                refused += 1
            free = self.free()
            lowest = min(lowest, free)
            self.assertGreaterEqual(free, 0, f"step {step}")
        self.assertGreater(min(accepted, refused, dealt), STEPS // 8, (accepted, refused, dealt))
        self.assertLess(lowest, 15_000, "much of it was used")

    def act(self, dice: random.Random, codes: list[str]) -> None:
        held = [h for h in self.account.holdings.filter(closed_at=None) if standing(h, live("MK30")).open]
        alive = list(self.account.orders.filter(state__in=DeskOrder.ALIVE))
        what = dice.choice(["open", "open", "close", "close", "close", "change", "cancel"])
        if what == "cancel" and alive:
            services.cancel(self.mara, dice.choice(alive).pk)
        elif what == "change" and (limits := [o for o in alive if o.type == "limit"]):
            services.change(self.mara, dice.choice(limits).pk, self.price(dice))
        elif what == "close" and held:
            holding = dice.choice(held)
            legs = standing(holding, live("MK30")).open
            some = dice.sample(legs, dice.randint(1, len(legs)))
            lots = dice.randint(1, max(1, min(abs(item.contracts) for item in some)))
            ticket = [(item.contract.code, -1 if item.contracts > 0 else 1) for item in some]
            self.send_(dice, ticket, lots, holding.pk)
        else:
            ticket = [(code, dice.choice([-2, -1, -1, 1, 1])) for code in dice.sample(codes, dice.randint(1, 4))]
            self.send_(dice, ticket, dice.randint(1, 4), None)

    @staticmethod
    def price(dice: random.Random) -> str:
        return f"{dice.randint(-200, 300) / 20:.2f}"

    def send_(self, dice: random.Random, legs: list[tuple[str, int]], lots: int, holding: int | None) -> None:
        kind = dice.choice(["market", "limit"])
        limit = self.price(dice) if kind == "limit" else None
        services.place(self.account, Ticket(legs, lots, kind, limit, holding=holding))
