"""What cannot be, what limits forbid, and what protects."""

from __future__ import annotations

import unittest
from decimal import Decimal

from strell_core.engine.marks import known_by_pnl
from strell_core.orders import check, limits
from strell_core.orders.order import sides
from strell_core.orders.protection import Level, Protection, problems
from tests.demo import short_history
from tests.orders.quotes import CALL, FAR_CALL, NOW, PUT, quotes, terms


class CheckTest(unittest.TestCase):
    def said(self, order, listed=lambda contract: True, last=NOW + 100, now=NOW) -> str:
        return " ".join(text for _, text in check.problems(order, listed, lambda contract: last, now))

    def test_a_good_order_has_no_problem(self) -> None:
        self.assertEqual(self.said(terms((CALL, -1), (FAR_CALL, 1), lots=3, limit=-50)), "")

    def test_each_impossibility_is_named(self) -> None:
        cases = {
            "whole number": terms((CALL, 1), lots=0, limit=1),
            "at least one leg": terms(limit=1),
            "once": terms((CALL, 1), (CALL, -1), limit=1),
            "between 1 and 100": terms((CALL, 0), limit=1),
        }
        for words, order in cases.items():
            with self.subTest(words):
                self.assertIn(words, self.said(order))
        self.assertIn("not listed", self.said(terms((CALL, 1), limit=1), listed=lambda contract: False))
        self.assertIn("no longer traded", self.said(terms((CALL, 1), limit=1), last=NOW - 1))


class LimitsTest(unittest.TestCase):
    def facts(self, order, **changes) -> limits.Facts:
        given = {
            "opens": True, "orders_last_minute": 0, "session_pnl": Decimal(0), "notional": Decimal(100_000),
            "sides": sides(order.legs, quotes()), "quantum": Decimal("0.05"), "currency": "EUR",
        }  # fmt: skip
        return limits.Facts(**{**given, **changes})

    def refusal(self, order, rules=None, **changes) -> str:
        return limits.refusal(rules or limits.Limits(), order, self.facts(order, **changes)) or ""

    def test_each_limit_holds_exactly_from_its_value_on(self) -> None:
        order = terms((CALL, -1), limit=-100)
        self.assertEqual(self.refusal(order), "")
        self.assertIn("limit of 20", self.refusal(terms((CALL, -1), lots=21, limit=-100)))
        self.assertEqual(self.refusal(terms((CALL, -1), lots=20, limit=-100)), "")
        self.assertIn("notional", self.refusal(order, notional=Decimal("5000000.01")))
        self.assertIn("last minute", self.refusal(order, orders_last_minute=30))
        self.assertIn("nothing is opened", self.refusal(order, session_pnl=Decimal(-5000)))
        self.assertEqual(self.refusal(order, session_pnl=Decimal("-4999.99")), "")

    def test_closing_is_held_back_by_rate_and_price_only(self) -> None:
        order = terms((CALL, 1), lots=500, limit=104)
        self.assertEqual(self.refusal(order, opens=False, session_pnl=Decimal(-99_999)), "")
        self.assertIn("last minute", self.refusal(order, opens=False, orders_last_minute=30))

    def test_a_price_far_beyond_the_other_side_is_surely_mistyped(self) -> None:
        # the put is 90 to 95: 60 % of the spread beyond the ask is 98
        self.assertEqual(self.refusal(terms((PUT, 1), limit=98)), "")
        self.assertIn("too far beyond", self.refusal(terms((PUT, 1), limit=99)))
        self.assertIn("too far beyond", self.refusal(terms((PUT, -1), limit=-80)))

    def test_no_limit_means_none(self) -> None:
        free = limits.Limits(None, None, None, None, None)
        wild = terms((PUT, 1), lots=9999, limit=5000)
        self.assertEqual(self.refusal(wild, free, session_pnl=Decimal(-1_000_000_000), orders_last_minute=999), "")

    def test_limits_are_read_with_their_faults_named(self) -> None:
        self.assertEqual(limits.Limits.parse(limits.Limits().plain()), limits.Limits())
        self.assertEqual(limits.Limits.parse({"lots": 3, "day_loss": None}).lots, 3)
        for raw, words in (
            ({"lots": 0}, "more than 0"),
            ({"lots": 1.5}, "whole"),
            ({"day_loss": "x"}, "not a number"),
            ({"speed": 1}, "no limit called"),
        ):
            with self.subTest(words), self.assertRaisesRegex(ValueError, words):
                limits.Limits.parse(raw)


class ProtectionTest(unittest.TestCase):
    """Money of a part is 0.05, so that 12 000 parts of premium are 600."""

    shield = Protection(Level(Decimal(50), "percent"), Level(Decimal(300), "money"))

    def judge(self, mid, closable, premium=600, shield=None) -> str | None:
        pnl = None if mid is None else (round(mid * 20), round(closable * 20))
        history = short_history()
        now = known_by_pnl(history, 40, history.dates[-1], premium * 20, pnl)
        return (shield or self.shield).judge(now, Decimal("0.05"))

    def test_a_target_is_judged_on_closable_a_stop_on_mid(self) -> None:
        self.assertEqual(self.judge(310, 300), "target")
        self.assertIsNone(self.judge(310, 299))
        self.assertEqual(self.judge(-300, -350), "stop")
        self.assertIsNone(self.judge(-299, -350))

    def test_a_target_in_money_is_reached_from_its_amount_on(self) -> None:
        shield = Protection(target=Level(Decimal(300), "money"))
        found = [self.judge(pnl, pnl, shield=shield) for pnl in (-400, 299.95, 300, 450)]
        self.assertEqual(found, [None, None, "target", "target"])

    def test_a_position_known_by_its_pnl_knows_its_own_snapshot(self) -> None:
        history = short_history()
        last = len(history.times) - 1
        for index in (last - 1, last):
            now = known_by_pnl(history, index, history.dates[-1], 1, (1, 1))
            self.assertEqual(now.reached(int(history.minute[index])).tolist(), [True], index)
            self.assertEqual(now.reached(24 * 60 - 1).shape, (1,))

    def test_reached_together_the_stop_wins(self) -> None:
        self.assertEqual(self.judge(-300, 300), "stop")

    def test_an_unvalued_position_reaches_nothing(self) -> None:
        self.assertIsNone(self.judge(None, None))

    def test_percent_counts_on_a_debit_as_on_a_credit_and_on_nothing_at_all(self) -> None:
        shield = Protection(Level(Decimal("12.5"), "percent"), Level(Decimal("33.3"), "percent"))
        for premium in (600, -600):
            found = [self.judge(pnl, pnl, premium, shield) for pnl in (75, 74.95, -199.75, -199.8)]
            self.assertEqual(found, ["target", None, None, "stop"])
        self.assertIsNone(self.judge(-50, -50, 0, shield))

    def test_levels_that_make_no_sense(self) -> None:
        for level in (Level(Decimal(0), "money"), Level(Decimal("NaN"), "money"), Level(Decimal(20_000), "percent")):
            with self.subTest(level):
                self.assertTrue(problems(Protection(stop=level)))
        self.assertEqual(problems(self.shield), [])
