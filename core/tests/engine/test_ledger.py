"""What is held after any fills, and what they brought: identities that hold whatever is dealt, and a few by hand."""

from __future__ import annotations

import unittest
from decimal import Decimal
from fractions import Fraction

from hypothesis import given
from hypothesis import strategies as st

from strell_core.engine.ledger import Held, Move, cash_of, holdings, options_in, take
from strell_core.market.instruments import ContractKey

PUT, CALL = (ContractKey.parse(f"MK30/2026-10-16/{text}") for text in ("put/3040", "call/3160"))
DEALS = st.lists(st.tuples(st.integers(-9, 9).filter(bool), st.integers(0, 5000)), max_size=12)


class LedgerTest(unittest.TestCase):
    @given(DEALS)
    def test_nothing_is_lost_between_what_was_dealt_realised_and_held(self, deals: list[tuple[int, int]]) -> None:
        held, cash = Held(PUT, 0), 0
        for contracts, price in deals:
            held, cash = take(held, contracts, price), cash - contracts * price
        self.assertEqual(held.contracts, sum(contracts for contracts, _ in deals))
        self.assertEqual(held.realised, cash + held.contracts * held.average)
        if held.contracts == 0:
            self.assertEqual(held.average, 0)
        else:
            prices = [price for _, price in deals]
            self.assertTrue(min(prices) <= held.average <= max(prices))

    def test_opened_added_reduced_closed_and_turned(self) -> None:
        steps = [
            ((2, 100), (2, 100, 0)), ((1, 130), (3, 110, 0)), ((-2, 120), (1, 110, 20)), ((-1, 90), (0, 0, 0)),
            ((-2, 50), (-2, 50, 0)), ((-2, 70), (-4, 60, 0)), ((1, 40), (-3, 60, 20)), ((5, 30), (2, 30, 110)),
            ((-3, 45), (-1, 45, 140)),
        ]  # fmt: skip
        held = Held(PUT, 0)
        for (contracts, price), expected in steps:
            held = take(held, contracts, price)
            self.assertEqual((held.contracts, held.average, held.realised), expected, (contracts, price))

    def test_an_average_is_exact(self) -> None:
        held = take(take(Held(PUT, 0), 2, 100), 1, 101)
        self.assertEqual(held.average, Fraction(301, 3))

    def test_contracts_are_held_apart_and_what_is_flat_again_is_told(self) -> None:
        held = holdings([Move(PUT, 1, 100), Move(CALL, -2, 50), Move(PUT, -1, 110)])
        self.assertEqual({c: (h.contracts, h.realised) for c, h in held.items()}, {PUT: (0, 10), CALL: (-2, 0)})

    def test_commission_counts_options_and_money_goes_the_other_way(self) -> None:
        self.assertEqual(options_in([(PUT, -2), (CALL, 3), (ContractKey.unit("MK30"), 7)]), 5)
        # 2 000 parts are a quantum of 0.05 points
        self.assertEqual(cash_of(-2, 6 * 20 * 2000, Decimal("0.05"), 50), Decimal("600.00"))
        self.assertEqual(cash_of(1, 6 * 20 * 2000, Decimal("0.05"), 50), Decimal("-300.00"))


if __name__ == "__main__":
    unittest.main()
