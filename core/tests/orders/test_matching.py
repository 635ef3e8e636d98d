"""Paper fills are what the quotes would have given: the other side, no more than its size, not before the delay."""

from __future__ import annotations

import dataclasses
import unittest

from hypothesis import given
from hypothesis import strategies as st

from strell_core.market.prices import PARTS
from strell_core.orders.matching import DELAY_SECONDS, Taken, match
from strell_core.orders.order import mid_limit, price_words, sides
from tests.orders.quotes import CALL, FAR_CALL, NOW, PUT, quotes, terms

EARLIER = NOW - DELAY_SECONDS


class MatchingTest(unittest.TestCase):
    def test_net_prices_of_both_sides(self) -> None:
        # selling the near call at its bid and buying the far one at its ask, worked by hand
        found = sides(terms((CALL, -1), (FAR_CALL, 1)).legs, quotes())
        assert found is not None
        self.assertEqual(found.other, -100 + 42)
        self.assertEqual(found.own, -104 + 40)
        self.assertEqual(found.mid_twice, found.own + found.other)
        self.assertEqual(mid_limit(found), -61)

    def test_the_mid_of_an_odd_spread_is_rounded_passively(self) -> None:
        bought = sides(terms((PUT, 1)).legs, quotes())
        sold = sides(terms((PUT, -1)).legs, quotes())
        assert bought is not None and sold is not None
        self.assertEqual(mid_limit(bought), 92, "pays no more than the mid of 92.5")
        self.assertEqual(mid_limit(sold), -93, "takes in no less than it")

    def test_a_limit_between_the_sides_waits_until_the_other_side_comes(self) -> None:
        order = terms((CALL, -1), limit=-102)
        self.assertIsNone(match(order, 1, EARLIER, quotes(), Taken()))
        filled = match(order, 1, EARLIER, quotes(call=(102, 106)), Taken())
        assert filled is not None
        self.assertEqual(filled.prices, (102 * PARTS,))

    def test_a_limit_fills_at_the_better_price(self) -> None:
        filled = match(terms((CALL, -1), limit=-90), 1, EARLIER, quotes(), Taken())
        assert filled is not None
        self.assertEqual(filled.prices, (100 * PARTS,))

    def test_a_market_order_pays_the_spread(self) -> None:
        filled = match(terms((CALL, 1), (PUT, -1)), 1, EARLIER, quotes(), Taken())
        assert filled is not None
        self.assertEqual(filled.prices, (104 * PARTS, 90 * PARTS))

    def test_no_more_fills_than_the_smallest_leg_has_and_nobody_gets_it_twice(self) -> None:
        taken, order = Taken(), terms((CALL, -2), (PUT, -1), lots=9)
        filled = match(order, 9, EARLIER, quotes(size=7), taken)
        assert filled is not None
        self.assertEqual(filled.lots, 3, "7 calls are bid for, 2 a lot")
        self.assertIsNone(match(order, 6, EARLIER, quotes(size=7), taken), "one call is left, a lot needs two")
        other = match(terms((PUT, -1), lots=9), 9, EARLIER, quotes(size=7), taken)
        assert other is not None
        self.assertEqual(other.lots, 4)

    def test_what_nobody_bids_for_is_given_away_when_it_closes_and_never_sold_short(self) -> None:
        short = terms((CALL, 1), (FAR_CALL, -1), lots=30)
        given = dataclasses.replace(short, closes=True)
        nobody = quotes(far=(0, 2), size=40)
        self.assertIsNone(match(short, 30, EARLIER, nobody, Taken()))
        filled = match(given, 30, EARLIER, nobody, Taken())
        assert filled is not None
        self.assertEqual((filled.lots, filled.prices), (30, (104 * PARTS, 0)))
        self.assertIsNone(match(given, 30, EARLIER, quotes(far=(0, 0)), Taken()), "no valid quote is no price")

    def test_nothing_fills_before_the_delay_is_over(self) -> None:
        self.assertIsNone(match(terms((CALL, 1)), 1, NOW, quotes(), Taken()))
        self.assertIsNotNone(match(terms((CALL, 1)), 1, NOW, quotes(at=NOW + DELAY_SECONDS), Taken()))

    def test_nothing_fills_without_a_usable_quote_of_every_leg(self) -> None:
        for bad in ((105, 100), (-1, -1), (0, 0)):
            with self.subTest(bad):
                self.assertIsNone(match(terms((CALL, 1), (PUT, -1)), 1, EARLIER, quotes(call=bad), Taken()))
        self.assertIsNone(match(terms((CALL, -1)), 1, EARLIER, quotes(call=(0, 3)), Taken()), "nobody bids")
        self.assertIsNotNone(match(terms((CALL, 1)), 1, EARLIER, quotes(call=(0, 3)), Taken()))

    @given(
        st.lists(st.tuples(st.integers(0, 400), st.integers(1, 40), st.integers(0, 30)), min_size=3, max_size=3),
        st.tuples(*[st.sampled_from([-2, -1, 1, 2])] * 3), st.integers(1, 20), st.integers(-900, 900),
    )  # fmt: skip
    def test_a_fill_is_never_better_than_the_quotes_nor_worse_than_the_limit(self, raw, ratios, lots, limit) -> None:
        from strell_core.orders.order import Sided

        book = {
            contract: Sided(bid, bid + width, size, size, NOW)
            for contract, (bid, width, size) in zip((CALL, FAR_CALL, PUT), raw, strict=True)
        }
        order = terms(*zip((CALL, FAR_CALL, PUT), ratios, strict=True), lots=lots, limit=limit)
        filled = match(order, lots, EARLIER, book, Taken())
        if filled is None:
            return
        net = sum(ratio * parts for ratio, parts in zip(ratios, filled.prices, strict=True))
        found = sides(order.legs, book)
        assert found is not None
        self.assertEqual(net, found.other * PARTS)
        self.assertLessEqual(net, limit * PARTS)
        self.assertLessEqual(filled.lots, lots)
        for leg in order.legs:
            self.assertLessEqual(filled.lots * abs(leg.ratio), book[leg.contract].bid_size)


class WordsTest(unittest.TestCase):
    def test_prices_in_words(self) -> None:
        from decimal import Decimal

        quantum = Decimal("0.05")
        self.assertEqual(price_words(-117, quantum), "5.85 credit")
        self.assertEqual(price_words(42, quantum), "2.10 debit")
        self.assertEqual(price_words(0, quantum), "even")
