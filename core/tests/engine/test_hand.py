"""What a person deals by hand in a life that rules share: closing, adding, turning, beside rules that act."""

from __future__ import annotations

import dataclasses
import unittest
from decimal import Decimal
from fractions import Fraction
from typing import Any

from strell_core.engine.hand import Action, Deal, deal, lived
from strell_core.engine.plan import EVERYTHING, Part, make_plan
from strell_core.engine.run import History
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Observation
from strell_core.market.prices import PARTS
from strell_core.strategy.document import normalise, parse
from tests.handmade import session_chains, timeline_of

POINT = 20 * PARTS
CASH = Decimal(50_000)
CALL, PUT = (ContractKey.parse(f"MK30/2026-10-16/{text}") for text in ("call/3150", "put/3050"))
RULES = normalise({
    "strell": 2, "name": "by hand", "underlyings": ["MK30"],
    "entries": [{
        "when": [{"rule": "decision_times", "weekdays": ["fri"]}], "size": [{"rule": "fixed_lots"}],
        "legs": [{"rule": "leg", "strike": {"pick": "percent_from_spot"}, "expiry": {"pick": "nearest_days"}}],
    }],
    "leave": [{"id": "target", "rule": "credit_target", "percent": 50}],
})  # fmt: skip


def quotes(call: str, put: str) -> dict[str, Any]:
    return {"spot": 3100, "2026-10-16/call/3150": call, "2026-10-16/put/3050": put}


TIMELINE = [
    {"at": "2026-10-05 15:40", **quotes("6.00/6.20", "5.00/5.20")},
    {"at": "2026-10-05 15:45", **quotes("6.00/6.20", "5.00/5.20")},
    {"at": "2026-10-06 15:40", **quotes("8.00/8.20", "3.00/3.20")},
    {"at": "2026-10-06 15:45", **quotes("2.00/2.20", "1.00/1.20")},
    {"at": "2026-10-06 15:50", **quotes("2.00/2.20", "1.00/1.20")},
]


class HandTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.timeline = timeline_of(session_chains(TIMELINE))

    def at(self, index: int, *deals: tuple[ContractKey, int, str]) -> Action:
        made = tuple(Deal(contract, n, round(float(price) * POINT)) for contract, n, price in deals)
        return Action(int(self.timeline.times[index]), made, Decimal("0.80") * sum(abs(d.contracts) for d in made))

    def live(self, *actions: Action, acts: frozenset[Part] = frozenset()) -> History:
        plan = make_plan(parse(RULES), self.timeline, acts)
        return lived(plan, self.timeline, 0, len(self.timeline.times), CASH, actions)

    def held(self, history: History) -> list[tuple[ContractKey, int, Fraction]]:
        return [
            (leg.contract, leg.contracts, Fraction(leg.opened_parts, POINT))
            for t in history.state.trades
            for leg in t.legs
        ]

    def test_the_first_deals_open_a_trade_and_later_ones_join_it(self) -> None:
        history = self.live(
            self.at(0, (CALL, -2, "6.00")), self.at(2, (CALL, -1, "9.00"), (PUT, -1, "3.00")),
        )  # fmt: skip
        (trade,) = history.state.trades
        self.assertEqual(self.held(history), [(CALL, -3, 7), (PUT, -1, 3)])
        self.assertEqual(Fraction(trade.opening, POINT), 12, "the premium of what opened it")
        self.assertEqual(history.state.cash, CASH + 50 * (12 + 9 + 3) - Decimal("3.20"))

    def test_trades_are_numbered_one_after_another(self) -> None:
        history = self.live(
            self.at(0, (CALL, -1, "6.00")), self.at(1, (CALL, 1, "6.20")), self.at(2, (PUT, -1, "3.00")),
            self.at(3, (PUT, 1, "1.20")), self.at(4, (CALL, -1, "2.00")),
        )  # fmt: skip
        self.assertEqual([trade.number for trade in history.closed], [1, 2])
        self.assertEqual([trade.number for trade in history.state.trades], [3])
        self.assertEqual(history.state.next_trade, 4)

    def test_closing_and_turning_around_in_one_deal(self) -> None:
        history = self.live(self.at(0, (CALL, -2, "6.00")), self.at(2, (CALL, 5, "8.20")))
        self.assertEqual(self.held(history), [(CALL, 3, Fraction("8.20"))])
        (trade,) = history.state.trades
        self.assertEqual(Fraction(trade.realised, POINT), 2 * Fraction("-2.20"))
        self.assertEqual(trade.costs, Decimal("5.60"), "no commission is lost between the parts")

    def test_what_was_bought_is_sold_and_turned_around_too(self) -> None:
        history = self.live(
            self.at(0, (CALL, 2, "6.20")), self.at(2, (CALL, -1, "8.00")), self.at(3, (CALL, -3, "2.00"))
        )
        self.assertEqual(self.held(history), [(CALL, -2, 2)])
        (trade,) = history.state.trades
        self.assertEqual(Fraction(trade.realised, POINT), Fraction("1.80") + Fraction("-4.20"))

    def test_one_deal_closes_parts_of_several_trades_and_shares_the_commission(self) -> None:
        """A rule's own trade beside one by hand: what is bought back closes the older first."""
        timeline, plan = self.timeline, make_plan(parse(RULES), self.timeline, frozenset())
        first = self.live(self.at(0, (CALL, -2, "6.00"))).state
        (one,) = first.trades
        other = dataclasses.replace(one, number=2)
        out = History(dataclasses.replace(first, trades=(one, other), next_trade=3))
        deal(
            plan,
            Observation(timeline, 2),
            out,
            dataclasses.replace(self.at(2, (CALL, 3, "8.20")), commission=Decimal("1.00")),
        )
        (gone,) = out.closed
        (left,) = out.state.trades
        self.assertEqual((gone.number, left.number, left.legs[0].contracts), (1, 2, -1))
        # a third of 1.00 to the cent, and the rest
        self.assertEqual((gone.costs - one.costs, left.costs - one.costs), (Decimal("0.67"), Decimal("0.33")))

    def test_what_is_left_of_a_deal_joins_the_oldest_trade_and_only_closes_the_others(self) -> None:
        plan = make_plan(parse(RULES), self.timeline, frozenset())
        first = self.live(self.at(0, (CALL, -2, "6.00"))).state
        trades = tuple(dataclasses.replace(first.trades[0], number=number) for number in (1, 2, 3))
        out = History(dataclasses.replace(first, trades=trades, next_trade=4))
        deal(plan, Observation(self.timeline, 2), out, self.at(2, (CALL, 5, "8.20"), (PUT, -1, "3.00")))
        self.assertEqual([trade.number for trade in out.closed], [2])
        one, three = out.state.trades
        self.assertEqual([(leg.contract, leg.contracts) for leg in one.legs], [(PUT, -1)])
        self.assertEqual([(leg.contract, leg.contracts) for leg in three.legs], [(CALL, -1)])
        hows = [[leg.how for leg in trade.closed_legs] for trade in (one, three)]
        self.assertEqual(hows, [["adjustment"], ["order"]])

    def test_closing_all_ends_the_trade_and_the_next_deal_begins_another(self) -> None:
        history = self.live(
            self.at(0, (CALL, -1, "6.00"), (PUT, -1, "5.00")), self.at(1, (CALL, 1, "6.20"), (PUT, 1, "5.20")),
            self.at(2, (PUT, 1, "3.20")),
        )  # fmt: skip
        (gone,) = history.closed
        self.assertEqual((gone.rule, gone.pnl), ("by hand", 50 * Decimal("-0.40") - Decimal("3.20")))
        self.assertEqual([trade.number for trade in history.state.trades], [2])

    def test_rules_that_act_leave_what_a_person_opened_and_not_what_a_person_closed(self) -> None:
        opened = self.at(0, (CALL, -1, "6.00"), (PUT, -1, "5.00"))
        advised = self.live(opened)
        self.assertEqual((len(advised.closed), len(advised.intents)), (0, 0), "asked only")
        acted = self.live(opened, acts=EVERYTHING)
        (gone,) = acted.closed
        self.assertEqual((gone.rule, gone.left_at), ("target", int(self.timeline.times[3])))
        # decided at 15:45, and at once bought back by hand: the rule's order is gone with the trade
        both = self.live(opened, self.at(3, (CALL, 1, "2.20"), (PUT, 1, "1.20")), acts=EVERYTHING)
        self.assertEqual([trade.rule for trade in both.closed], ["by hand"])
        self.assertEqual((both.state.trades, both.state.orders), ((), ()))

    def test_a_part_closed_by_hand_is_not_closed_again_by_a_rule(self) -> None:
        history = self.live(
            self.at(0, (CALL, -2, "6.00"), (PUT, -2, "5.00")), self.at(3, (CALL, 1, "2.20")), acts=EVERYTHING,
        )  # fmt: skip
        (gone,) = history.closed
        self.assertEqual(sum(leg.contracts for leg in gone.legs if leg.contract == CALL), -2)
        self.assertEqual(sum(leg.contracts for leg in gone.legs if leg.contract == PUT), -2)
