"""Strike picks where a chain has holes: no delta, no forward, the last strike, quotes that cannot be used."""

from __future__ import annotations

import datetime as dt
import unittest
from typing import Any

import numpy as np

from strell_core.market.view import NO_DELTA, ExpirationSlice
from strell_core.scenario.generator import MK30
from strell_core.strategy import catalogue, kinds

STRIKES = [3000, 3010, 3020, 3030, 3040]


class View:
    """Spot and terms, all that these strike picks ask of the chain beside its slice."""

    spot, underlying = 302_000, MK30


class Picking:
    view = View()


class PicksTest(unittest.TestCase):
    def setUp(self) -> None:
        catalogue.load()

    def chain(self, right: str = "put", **changes: Any) -> ExpirationSlice:
        given: dict[str, Any] = {
            "bid": [20, 40, 80, 120, 200], "ask": [24, 44, 84, 124, 204], "delta": [-500, -1000, -2000, -3500, -5000],
            "forward": 3021.0,
        } | changes  # fmt: skip
        return ExpirationSlice(
            dt.date(2026, 10, 16), right, 0, given["forward"], np.array(STRIKES, float), np.array(given["bid"], np.int32),
            np.array(given["ask"], np.int32), np.zeros(5, np.uint16), np.array(given["delta"], np.int16), np.zeros(5, np.int32),
        )  # fmt: skip

    def away(self, pick: str, chain: ExpirationSlice, **params: Any) -> list[int]:
        return kinds.strike_picks[pick].distance(chain, Picking(), params).tolist()  # type: ignore[arg-type]

    def test_a_delta_counts_by_its_size_and_only_where_there_is_one(self) -> None:
        self.assertEqual(self.away("nearest_delta", self.chain(), delta=0.2), [1500, 1000, 0, 1500, 3000])
        holes = self.chain(delta=[-500, NO_DELTA, NO_DELTA, -3500, -5000])
        self.assertEqual(self.away("nearest_delta", holes, delta=0.2), [1500, -1, -1, 1500, 3000])
        calls = self.chain("call", delta=[5000, 3500, 2000, 1000, 500])
        self.assertEqual(self.away("nearest_delta", calls, delta=0.35), [1500, 0, 1500, 2500, 3000])

    def test_crossed_and_missing_quotes_are_passed_over_by_every_pick(self) -> None:
        bad = self.chain(bid=[20, 45, -1, 0, 0], ask=[24, 44, -1, 0, 10])
        for pick, params in (
            ("nearest_delta", {"delta": 0.2}), ("nearest_premium", {"points": 2.0}), ("percent_from_spot", {"percent": 0.0}),
        ):  # fmt: skip
            found = self.away(pick, bad, **params)
            self.assertEqual([distance < 0 for distance in found], [False, True, True, True, False], pick)

    def test_a_premium_is_that_of_the_mid(self) -> None:
        # mids 1.10, 2.10, 4.10, 6.10, 10.10; twice the distance in quanta
        self.assertEqual(self.away("nearest_premium", self.chain(), points=4.0), [116, 76, 4, 84, 244])

    def test_a_share_of_spot_lies_out_of_the_money_on_either_side(self) -> None:
        put = self.away("percent_from_spot", self.chain(), percent=0.5)
        call = self.away("percent_from_spot", self.chain("call"), percent=0.5)
        # 3004.90 and 3035.10
        self.assertEqual([int(np.argmin(put)), int(np.argmin(call))], [0, 4])
        self.assertEqual((put[0], call[4]), (490_000, 490_000))

    def test_strikes_from_the_money_count_listed_ones_and_end_where_the_list_does(self) -> None:
        def at(right: str, strikes: int, **changes: Any) -> list[int]:
            return self.away("strikes_from_money", self.chain(right, **changes), strikes=strikes)

        self.assertEqual(at("put", 0), [2, 1, 0, 1, 2], "3020 is nearest to the forward of 3021")
        self.assertEqual(at("put", 2), [0, 1, 2, 3, 4], "the lowest strike there is")
        self.assertEqual(at("put", 3), [-1] * 5, "and none beyond it")
        self.assertEqual(at("call", 2), [4, 3, 2, 1, 0])
        self.assertEqual(at("call", 3), [-1] * 5)
        self.assertEqual(at("call", -2), [0, 1, 2, 3, 4], "in the money")
        self.assertEqual(at("put", 0, forward=float("nan")), [-1] * 5, "without a forward there is no middle")
        unlisted = at("put", 1, ask=[24, 0, 84, 124, 204], bid=[20, 0, 80, 120, 200])
        self.assertEqual(unlisted, [0, -1, 1, 2, 3], "what is not offered is not counted")

    def test_tolerances_are_in_the_distances_own_numbers(self) -> None:
        for pick, params, wanted in (
            ("nearest_delta", {"delta": 0.2, "within": 0.15}, 1500), ("nearest_delta", {"delta": 0.06, "within": "50 %"}, 300),
            ("nearest_premium", {"points": 4.0, "within": 75}, 120),
            ("percent_from_spot", {"percent": 3.0, "within": 5.0}, 15_100_000), ("strikes_from_money", {"strikes": 1, "within": 3}, 3),
        ):  # fmt: skip
            self.assertEqual(kinds.strike_picks[pick].tolerance(View(), params), wanted, pick)  # type: ignore[arg-type]
