"""Orders that fill in parts, end without filling, or are overtaken by an exit (semantics rule 8)."""

from __future__ import annotations

import dataclasses
import unittest
from decimal import Decimal
from fractions import Fraction

from strell_core.engine.advance import advance
from strell_core.engine.fills import fill_price
from strell_core.engine.plain import to_plain
from strell_core.engine.plan import make_plan
from strell_core.engine.run import History, step
from strell_core.engine.state import EngineState, Fill, LegState, Order, OrderLeg
from strell_core.engine.stored import dump, fill_of, load, order_of
from strell_core.market.market import Observation
from strell_core.strategy.document import parse
from tests.demo import short_history
from tests.engine.variations import PERCENT_EXITS, STRANGLE, document


class PartsTest(unittest.TestCase):
    def setUp(self) -> None:
        self.timeline = short_history()
        raw = document("parts", STRANGLE, [{"rule": "premium_stop", "percent": 1}, *PERCENT_EXITS], lots=4)
        self.plan = make_plan(parse(raw), self.timeline)
        begin = int(self.timeline.first[-20])
        history = History(EngineState(Decimal(100_000)))
        self.index = begin
        while not history.state.orders:
            step(self.plan, self.timeline, self.index, history)
            self.index += 1
        self.state, self.order = history.state, history.state.orders[0]

    def prices(self, index: int, order=None) -> tuple[int, ...]:
        view = self.timeline.view(index)
        return tuple(fill_price(view.quote(leg.contract), leg.contracts, 100) for leg in (order or self.order).legs)

    def go(self, *fills: Fill):
        made = advance(self.plan, self.state, Observation(self.timeline, self.index), fills)
        self.assertEqual(load(dump(made.state), "MK30"), made.state, "the state survives being written")
        self.state, self.index = made.state, self.index + 1
        return made

    def part(self, lots: int, ended: bool = False) -> Fill:
        at = int(self.timeline.times[self.index])
        return Fill(self.order.id, at, self.prices(self.index), Decimal("1.60") * lots, lots, ended)

    def test_a_part_is_a_position_at_once_and_the_rest_goes_on_working(self) -> None:
        self.go(self.part(1))
        self.assertEqual([trade.lots for trade in self.state.trades], [1])
        self.assertEqual([order.lots for order in self.state.orders if order.purpose == "open"], [3])
        self.assertEqual(self.state.open_count, 1, "one trade, however many parts")

    def test_parts_join_at_their_average_and_money_is_exact(self) -> None:
        # no exit of these rules acts, so that both parts fill
        self.plan = make_plan(parse(document("parts", STRANGLE, [], lots=4)), self.timeline)
        before = self.state.cash
        first = self.part(1)
        self.go(first)
        self.index += 7
        second = self.part(3)
        self.go(second)
        self.assertNotEqual(first.prices, second.prices, "or the average proves nothing")
        (trade,) = self.state.trades
        self.assertEqual((trade.lots, self.state.orders), (4, ()))
        for held, leg, one, three in zip(trade.legs, self.order.legs, first.prices, second.prices, strict=True):
            self.assertEqual(held.contracts, leg.contracts)
            self.assertEqual(held.opened_parts, round(Fraction(one + 3 * three, 4)))
        self.assertEqual(
            trade.opening, sum(one + 3 * three for one, three in zip(first.prices, second.prices, strict=True))
        )
        moved = Decimal(0)
        for fill in (first, second):
            for leg, parts in zip(self.order.legs, fill.prices, strict=True):
                contracts = leg.contracts // 4 * fill.lots
                moved += (-Decimal(contracts * parts) * Decimal("0.05") * 50 / 2000).quantize(Decimal("0.01"))
            moved -= fill.commission
        self.assertEqual(self.state.cash, before + moved)

    def test_an_exit_ends_the_rest_and_closes_what_is_held(self) -> None:
        made = self.go(self.part(1))
        while not any(order.purpose == "close" for order in self.state.orders):
            made = self.go()
        closing = next(order for order in made.intents if order.purpose == "close")
        self.assertEqual(closing.lots, 1)
        self.assertTrue(next(order for order in self.state.orders if order.purpose == "open").ending)
        # one more lot slips in before the rest is confirmed gone: the exit closes both
        self.go(self.part(1, ended=True))
        closing = next(order for order in self.state.orders if order.purpose == "close")
        self.assertEqual(closing.lots, 2)
        self.assertEqual([leg.contracts for leg in closing.legs], [-leg.contracts for leg in self.state.trades[0].legs])
        self.assertFalse(any(order.purpose == "open" for order in self.state.orders))

    def test_closing_in_parts_finishes_with_the_last(self) -> None:
        self.go(dataclasses.replace(self.part(4), lots=None))
        while not any(order.purpose == "close" for order in self.state.orders):
            self.go()
        closing = next(order for order in self.state.orders if order.purpose == "close")
        at, prices = int(self.timeline.times[self.index]), self.prices(self.index, closing)
        made = self.go(Fill(closing.id, at, prices, Decimal(0), 1))
        self.assertEqual((made.closed, [trade.legs[0].contracts for trade in self.state.trades]), ((), [-3]))
        made = self.go(Fill(closing.id, at, prices, Decimal(0), 3))
        self.assertEqual(len(made.closed), 1)
        self.assertEqual(self.state.trades, ())
        trade = made.closed[0]
        expected = sum(leg.contracts * (leg.closed_parts - leg.opened_parts) for leg in trade.legs)
        self.assertEqual(trade.gross, expected)

    def test_a_leg_whose_own_order_ends_comes_to_the_exit_of_the_position(self) -> None:
        """A leg is being closed when the whole position is to leave: the exit closes the rest, and the leg too once its
        own order is gone. Orders of another trade with legs of the same names are none of its business."""
        self.go(dataclasses.replace(self.part(4), lots=None))
        (one,) = self.state.trades
        first, second = one.legs
        own = self.close("1-close-leg", 1, (first,))
        whole = dataclasses.replace(self.close("1-close", 1, (second,)), whole=True)
        other = self.close("2-close-leg", 2, (first,))
        two = dataclasses.replace(one, number=2)
        self.state = dataclasses.replace(self.state, trades=(one, two), orders=(own, whole, other), next_trade=3)
        ended = Fill(own.id, int(self.timeline.times[self.index]), (), Decimal(0), 0, True)
        self.go(ended)
        left = {order.id: [leg.leg_id for leg in order.legs] for order in self.state.orders}
        self.assertEqual(left["1-close"], [first.leg_id, second.leg_id])
        self.assertEqual(left["2-close-leg"], [first.leg_id])
        self.assertNotIn("1-close-leg", left)

    def test_an_older_trades_order_does_not_keep_a_leg_of_the_same_name(self) -> None:
        self.go(dataclasses.replace(self.part(4), lots=None))
        (one,) = self.state.trades
        first, second = one.legs
        older, own = self.close("1-close-leg", 1, (first,)), self.close("2-close-leg", 2, (first,))
        whole = dataclasses.replace(self.close("2-close", 2, (second,)), whole=True)
        two = dataclasses.replace(one, number=2)
        self.state = dataclasses.replace(self.state, trades=(one, two), orders=(older, own, whole), next_trade=3)
        self.go(Fill(own.id, int(self.timeline.times[self.index]), (), Decimal(0), 0, True))
        left = {order.id: [leg.leg_id for leg in order.legs] for order in self.state.orders}
        self.assertEqual(left["2-close"], [first.leg_id, second.leg_id])

    def close(self, name: str, trade: int, legs: tuple[LegState, ...]) -> Order:
        made = tuple(OrderLeg(leg.leg_id, leg.contract, -leg.contracts) for leg in legs)
        return dataclasses.replace(
            self.order, id=name, purpose="close", trade=trade, legs=made, type="market", urgency="now"
        )

    def test_an_order_that_ended_unfilled_is_forgotten_and_said(self) -> None:
        made = self.go(Fill(self.order.id, int(self.timeline.times[self.index]), (), Decimal(0), 0, True))
        self.assertEqual(made.reasons[0].kind, "ended")
        self.assertEqual((self.state.orders, self.state.trades), ((), ()))

    def test_orders_and_fills_are_read_back_as_they_were_written(self) -> None:
        fill = self.part(2, ended=True)
        self.assertEqual(fill_of(to_plain(fill)), fill)
        self.assertEqual(order_of(to_plain(self.order), "MK30"), self.order)
