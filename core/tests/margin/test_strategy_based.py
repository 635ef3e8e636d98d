"""Margin by rule: worked examples of each kind of position, and what must always hold."""

from __future__ import annotations

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from strell_core.margin.strategy_based import INDEX_SHARE, STOCK_SHARE, Leg, capital, capital_over, requirement

NEAR, FAR = 1_795_100_000, 1_797_500_000


def call(contracts: int, strike: float, mark: float, settlement: int = NEAR) -> Leg:
    return Leg(contracts, 1, strike, settlement, mark)


def put(contracts: int, strike: float, mark: float, settlement: int = NEAR) -> Leg:
    return Leg(contracts, -1, strike, settlement, mark)


def needs(*legs: Leg, spot: float, share: float = STOCK_SHARE, **more: object) -> float:
    return round(requirement(legs, spot, share, **more).amount, 9)  # type: ignore[arg-type]


class WorkedExamplesTest(unittest.TestCase):
    """FINRA Rule 4210(f)(2) and exchange margin manuals; the rules are recalled from memory, the figures worked
    out from them here by hand, a contract at a time in points."""

    def test_a_long_option_needs_nothing_beyond_its_price(self) -> None:
        self.assertEqual(needs(call(1, 100, 4), spot=100), 0)
        self.assertEqual(capital([call(1, 100, 4)], 100), 4, "which is what it ties up")

    def test_a_lone_short_call(self) -> None:
        # value 2, 20 % of 95 is 19, less 5 out of the money
        self.assertEqual(needs(call(-1, 100, 2), spot=95), 2 + 19 - 5)
        # far out: the least is 10 % of the underlying
        self.assertEqual(needs(call(-1, 120, 0.1), spot=95), 0.1 + 9.5)
        # in the money nothing is taken off
        self.assertEqual(needs(call(-1, 90, 7), spot=95), 7 + 19)

    def test_a_lone_short_put_and_its_least(self) -> None:
        self.assertEqual(needs(put(-1, 90, 2), spot=95), 2 + 19 - 5)
        self.assertEqual(needs(put(-1, 70, 0.1), spot=95), 0.1 + 7.0, "10 % of the strike")

    def test_a_broad_index_needs_fifteen_percent(self) -> None:
        self.assertEqual(needs(call(-1, 3200, 10), spot=3100, share=INDEX_SHARE), 10 + 465 - 100)

    def test_it_says_which_share_a_lone_short_needs(self) -> None:
        words = [part.words for part in requirement([call(-1, 3200, 10)], 3100, INDEX_SHARE).parts]
        self.assertIn("short calls that stand alone, 15 % of the underlying less what they are out of the money", words)

    def test_a_straddle_needs_its_greater_side_and_both_values(self) -> None:
        self.assertEqual(needs(call(-1, 100, 5), put(-1, 100, 4), spot=102), 5 + 4 + 20.4)
        self.assertEqual(
            needs(call(-1, 110, 1), put(-1, 90, 1.5), spot=102), 14.9
        )  # 20.4 less 8 for the call, 20.4 less 12 for the put

    def test_a_credit_spread_needs_its_width(self) -> None:
        legs = (put(-1, 100, 4), put(1, 95, 2))
        self.assertEqual(needs(*legs, spot=101), 5)
        self.assertEqual(capital(legs, 101), 3, "width less the credit")

    def test_a_debit_spread_needs_nothing_more(self) -> None:
        legs = (call(1, 100, 4), call(-1, 105, 2))
        self.assertEqual(needs(*legs, spot=101), 0)
        self.assertEqual(capital(legs, 101), 2)

    def test_a_condor_needs_its_wider_side(self) -> None:
        legs = (put(1, 85, 0.5), put(-1, 90, 1.2), call(-1, 110, 1.3), call(1, 118, 0.4))
        self.assertEqual(needs(*legs, spot=100), 8)

    def test_butterflies(self) -> None:
        self.assertEqual(
            needs(call(1, 95, 7), call(-2, 100, 4), call(1, 105, 2), spot=100), 0, "long: its debit is all"
        )
        self.assertEqual(needs(call(-1, 95, 7), call(2, 100, 4), call(-1, 105, 2), spot=100), 5, "short: its width")
        iron = (put(1, 95, 1), put(-1, 100, 3), call(-1, 100, 3), call(1, 105, 1))
        self.assertEqual(needs(*iron, spot=100), 5)

    def test_calendars_and_diagonals(self) -> None:
        self.assertEqual(needs(call(-1, 100, 3), call(1, 100, 5, FAR), spot=100), 0)
        self.assertEqual(needs(call(-1, 100, 3), call(1, 104, 3.5, FAR), spot=100), 4)
        # a long that expires before the short covers nothing
        self.assertEqual(needs(call(-1, 100, 5, FAR), call(1, 100, 3), spot=100), 5 + 20)

    def test_a_ratio_spread_has_one_that_stands_alone(self) -> None:
        legs = (call(1, 100, 4), call(-2, 105, 2))
        self.assertEqual(needs(*legs, spot=100), 2 + 20 - 5)

    def test_covered_calls_and_cash_secured_puts(self) -> None:
        self.assertEqual(needs(call(-2, 105, 2), spot=100, units=2), 0)
        self.assertEqual(needs(call(-2, 105, 2), spot=100, units=1), 2 + 20 - 5)
        self.assertEqual(needs(put(-1, 95, 2), spot=100, cash_secured=True), 95)

    def test_what_is_left_over_helps_and_what_is_uncovered_stands_alone(self) -> None:
        # two shorts, one long: the dearer one to leave alone is covered
        self.assertEqual(needs(call(-1, 100, 4), call(-1, 110, 1), call(1, 105, 2), spot=100), 5 + (1 + 20 - 10))
        # one short, two longs: the one that is left pays beyond its strike, but not at the worst end
        self.assertEqual(needs(put(-1, 100, 4), put(2, 95, 2), spot=101), 5)
        # a spread whose left-over long is further in than the short: it can lose nothing
        self.assertEqual(needs(put(-1, 95, 2), put(1, 90, 1), put(1, 100, 4), spot=101), 0)
        # the same strike twice is one position
        self.assertEqual(needs(call(-1, 100, 2), call(-1, 100, 2), spot=95), 2 * (2 + 19 - 5))
        self.assertEqual(needs(call(-1, 100, 2), call(1, 100, 2), spot=95), 0)

    def test_units_cover_the_calls_that_are_dearest_alone(self) -> None:
        legs = (call(-1, 90, 12), call(-1, 120, 0.2))
        # the deep one needs 12 + 20, the far one 0.2 and 10 % of 100
        self.assertEqual(needs(*legs, spot=100, units=1), 0.2 + 10)
        self.assertEqual(needs(*legs, spot=100, units=2), 0)
        self.assertEqual(needs(*legs, spot=100, units=5), 0, "more units than calls need nothing")
        self.assertEqual(needs(put(-1, 90, 2), spot=95, units=1), 2 + 19 - 5, "units cover no put")

    def test_capital_with_the_underlying(self) -> None:
        self.assertEqual(capital([call(-1, 105, 2)], 100, units=1), 98, "the units less what the call took in")
        self.assertEqual(capital([], 100, units=2), 200)
        self.assertEqual(capital([], 100, units=-1), 50, "half of what was sold (Regulation T, from memory)")
        self.assertEqual(capital([put(1, 100, 5)], 100), 5)

    def test_the_pairing_is_the_cheapest(self) -> None:
        """Each short has two longs to choose from; crossing them over would need 20 instead of 10."""
        legs = (put(-1, 100, 4), put(-1, 90, 2), put(1, 95, 3), put(1, 85, 1))
        self.assertEqual(needs(*legs, spot=101), 10)


LEGS = st.lists(
    st.builds(
        Leg, st.integers(-3, 3).filter(bool), st.sampled_from((1, -1)), st.sampled_from((80.0, 90.0, 95.0, 100.0, 105.0, 120.0)),
        st.sampled_from((NEAR, FAR)), st.sampled_from((0.1, 1.0, 3.0, 8.0)),
    ),
    min_size=1, max_size=6,
)  # fmt: skip


class PropertiesTest(unittest.TestCase):
    @settings(max_examples=150, deadline=None)
    @given(LEGS, st.randoms())
    def test_the_order_of_legs_does_not_matter(self, legs: list[Leg], random: object) -> None:
        marks = {(leg.settlement, leg.sign, leg.strike): leg.mark for leg in legs}
        legs = [Leg(g.contracts, g.sign, g.strike, g.settlement, marks[g.settlement, g.sign, g.strike]) for g in legs]
        mixed = list(legs)
        random.shuffle(mixed)  # type: ignore[attr-defined]
        self.assertAlmostEqual(requirement(legs, 100).amount, requirement(mixed, 100).amount, places=6)

    @settings(max_examples=150, deadline=None)
    @given(LEGS)
    def test_never_less_than_a_defined_structure_can_lose(self, legs: list[Leg]) -> None:
        legs = [Leg(g.contracts, g.sign, g.strike, NEAR, g.mark) for g in legs]
        if sum(g.contracts for g in legs if g.sign > 0) < 0 or sum(g.contracts for g in legs if g.sign < 0) < 0:
            return
        worst = min(
            sum(g.contracts * max(0.0, g.sign * (price - g.strike)) for g in legs)
            for price in (0.0, 80.0, 90.0, 95.0, 100.0, 105.0, 120.0, 500.0)
        )
        self.assertGreaterEqual(requirement(legs, 100).amount, -worst - 1e-9)

    @settings(max_examples=100, deadline=None)
    @given(LEGS, st.integers(2, 5))
    def test_twice_the_lots_need_twice_as_much(self, legs: list[Leg], times: int) -> None:
        more = [Leg(g.contracts * times, g.sign, g.strike, g.settlement, g.mark) for g in legs]
        self.assertAlmostEqual(requirement(more, 100).amount, times * requirement(legs, 100).amount, places=6)

    @settings(max_examples=100, deadline=None)
    @given(LEGS, st.lists(st.floats(60, 140), min_size=1, max_size=4))
    def test_over_many_instants_it_says_what_it_says_at_each(self, legs: list[Leg], spots: list[float]) -> None:
        factors = np.linspace(0.5, 1.5, len(spots))
        marks = np.array([leg.mark for leg in legs])[:, None] * factors
        found = capital_over(legs, marks, np.array(spots), INDEX_SHARE)
        for place, spot in enumerate(spots):
            now = [leg._replace(mark=float(mark)) for leg, mark in zip(legs, marks[:, place], strict=True)]
            self.assertEqual(float(found[place]), capital(now, spot, INDEX_SHARE))

    def test_nothing_needs_nothing(self) -> None:
        self.assertEqual(requirement([], 100).amount, 0)
        self.assertEqual(capital([], 100), 0)
