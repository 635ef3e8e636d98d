"""Orders at their bounds: each value that is just allowed, and the one beyond it."""

from __future__ import annotations

import dataclasses
import datetime as dt
import unittest
from decimal import Decimal

from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS
from strell_core.orders import check, limits
from strell_core.orders.matching import DELAY_SECONDS, Taken, match
from strell_core.orders.order import OrderType, Sided, Sides, mid_limit, sides
from strell_core.orders.protection import Level, Protection, problems
from tests.orders.quotes import CALL, EXPIRATION, FAR_CALL, NOW, PUT, quotes, terms

EARLIER = NOW - DELAY_SECONDS


def strikes(count: int) -> list[tuple[ContractKey, int]]:
    return [(ContractKey(EXPIRATION, "call", 3000 + 10 * n, "MK30"), 1) for n in range(count)]


class CheckBoundsTest(unittest.TestCase):
    def places(self, order, last: int = NOW + 1) -> list[str]:
        return [place for place, _ in check.problems(order, lambda contract: True, lambda contract: last, NOW)]

    def test_each_bound_holds_exactly(self) -> None:
        limit = dataclasses.replace(terms((CALL, 1)), type=OrderType.LIMIT)
        for name, order, wanted in (
            ("most lots", terms((CALL, 1), lots=10_000, limit=1), []), ("more", terms((CALL, 1), lots=10_001, limit=1), ["lots"]),
            ("no lot", terms((CALL, 1), lots=0, limit=1), ["lots"]), ("negative", terms((CALL, 1), lots=-1, limit=1), ["lots"]),
            ("eight legs", terms(*strikes(8), limit=1), []), ("nine", terms(*strikes(9), limit=1), ["legs"]),
            ("ratio", terms((CALL, 100), limit=1), []), ("beyond", terms((CALL, 101), limit=1), ["legs"]),
            ("sold", terms((CALL, -100), limit=1), []), ("sold beyond", terms((CALL, -101), limit=1), ["legs"]),
            ("limit without a price", limit, ["limit"]), ("limit of nothing", terms((CALL, 1), limit=0), []),
            ("market with a price", dataclasses.replace(limit, type=OrderType.MARKET, limit=5), ["limit"]),
        ):  # fmt: skip
            with self.subTest(name):
                self.assertEqual(self.places(order), wanted)

    def test_the_last_instant_is_still_traded(self) -> None:
        order = terms((CALL, 1), limit=1)
        self.assertEqual(self.places(order, last=NOW), [])
        self.assertEqual(self.places(order, last=NOW - 1), ["legs"])


class LimitBoundsTest(unittest.TestCase):
    def refusal(self, order, rules=None, **changes) -> str:
        facts = limits.Facts(True, 0, Decimal(0), Decimal(0), sides(order.legs, quotes()), Decimal("0.05"), "EUR")
        return limits.refusal(rules or limits.Limits(), order, dataclasses.replace(facts, **changes)) or ""

    def test_what_equals_a_limit_is_allowed_and_a_cent_more_is_not(self) -> None:
        order = terms((CALL, 1), limit=104)
        self.assertEqual(self.refusal(order, notional=Decimal(5_000_000)), "")
        self.assertIn("notional", self.refusal(order, notional=Decimal("5000000.01")))
        self.assertEqual(self.refusal(order, orders_last_minute=29), "")
        self.assertEqual(self.refusal(order, session_pnl=None), "", "an unvalued session stops nothing by itself")

    def test_a_locked_quote_leaves_a_little_room(self) -> None:
        """60 % of a spread of nothing would be nothing; of two quanta it is one."""
        locked = Sides(100, 200, 100)
        self.assertEqual(self.refusal(terms((CALL, 1), limit=101), sides=locked), "")
        self.assertIn("too far beyond", self.refusal(terms((CALL, 1), limit=102), sides=locked))
        self.assertEqual(self.refusal(terms((CALL, 1), limit=999), sides=None), "", "without quotes nothing is beyond")

    def test_what_is_no_number_or_no_end_is_no_limit(self) -> None:
        for raw in ({"lots": "NaN"}, {"notional": "Infinity"}, {"day_loss": "-1"}, {"collar": "0"}):
            with self.subTest(raw), self.assertRaisesRegex(ValueError, "more than 0|is not a number"):
                limits.Limits.parse(raw)
        self.assertEqual(limits.Limits.parse({"notional": "1.5"}).notional, Decimal("1.5"))


class MatchBoundsTest(unittest.TestCase):
    def test_one_old_quote_among_fresh_ones_is_enough_to_wait(self) -> None:
        order, fresh = terms((CALL, 1), (PUT, 1)), quotes()
        self.assertIsNotNone(match(order, 1, EARLIER, fresh, Taken()))
        for old in (CALL, PUT):
            book = {**fresh, old: fresh[old]._replace(at=EARLIER)}
            self.assertIsNone(match(order, 1, EARLIER, book, Taken()), old.label)

    def test_buying_counts_what_is_offered_and_selling_what_is_bid_for(self) -> None:
        book = {CALL: Sided(100, 104, 3, 8, NOW), PUT: Sided(90, 95, 6, 2, NOW)}
        for legs, lots in ((((CALL, 1),), 8), (((CALL, -1),), 3), (((PUT, 1),), 2), (((CALL, -1), (PUT, -2)), 3)):
            found = match(terms(*legs, lots=50), 50, EARLIER, book, Taken())
            assert found is not None
            self.assertEqual(found.lots, lots, legs)
        taken = Taken()
        match(terms((CALL, 1), lots=5), 5, EARLIER, book, taken)
        self.assertEqual((taken.of(CALL, True), taken.of(CALL, False)), (5, 0), "the other side is untouched")

    def test_a_limit_at_the_other_side_is_reached_and_one_quantum_less_is_not(self) -> None:
        self.assertIsNotNone(match(terms((CALL, 1), limit=104), 1, EARLIER, quotes(), Taken()))
        self.assertIsNone(match(terms((CALL, 1), limit=103), 1, EARLIER, quotes(), Taken()))

    def test_a_locked_quote_is_valid_and_both_sides_are_one(self) -> None:
        book = quotes(call=(100, 100))
        self.assertEqual(sides(terms((CALL, 1)).legs, book), Sides(100, 200, 100))
        found = match(terms((CALL, -1)), 1, EARLIER, book, Taken())
        assert found is not None
        self.assertEqual(found.prices, (100 * PARTS,))

    def test_the_mid_in_steps_of_more_than_a_quantum_never_pays_more(self) -> None:
        for own, other, step, wanted in ((90, 95, 1, 92), (90, 95, 5, 90), (-95, -90, 5, -95), (-104, -100, 5, -105), (100, 104, 2, 102)):  # fmt: skip
            self.assertEqual(mid_limit(Sides(own, own + other, other), step), wanted, (own, other, step))


class ProtectionBoundsTest(unittest.TestCase):
    def test_percent_of_a_premium_is_money_whichever_way_it_went(self) -> None:
        half = Level(Decimal("12.5"), "percent")
        self.assertEqual((half.amount(Decimal(600)), half.amount(Decimal(-600))), (Decimal("75.00"), Decimal("75.00")))
        self.assertEqual(Level(Decimal(33), "money").amount(Decimal(-600)), Decimal(33))

    def test_just_possible_levels(self) -> None:
        self.assertEqual(problems(Protection(Level(Decimal(10_000), "percent"), Level(Decimal("0.01"), "money"))), [])
        said = problems(Protection(Level(Decimal("10000.01"), "percent"), Level(Decimal("Infinity"), "money")))
        self.assertEqual([place for place, _ in said], ["target", "stop"])


class LaterTest(unittest.TestCase):
    def test_contracts_of_other_dates_are_other_contracts(self) -> None:
        later = CALL._replace(expiration=EXPIRATION + dt.timedelta(days=7))
        self.assertIsNone(sides(terms((later, 1)).legs, quotes()))
        self.assertIsNone(match(terms((FAR_CALL, 1), (later, -1)), 1, EARLIER, quotes(), Taken()))
