"""Daily measures against independent computations."""

from __future__ import annotations

import dataclasses
import unittest
from typing import Any

import numpy as np
import pandas as pd

from strell_core.formats.cubes import in_memory
from strell_core.market.calendars import marrowick
from strell_core.market.daily import DailyHistory
from strell_core.measures.bars import Indicator
from strell_core.measures.measure import MarketMeasure, load
from strell_core.scenario.generator import MK30
from tests.demo import SHORT, chains, demo_history, short_history


def history(closes: list[float], iv: list[float] | None = None) -> DailyHistory:
    dates = demo_history().dates[: len(closes)]
    return DailyHistory(dates, np.array(closes, float), np.array(iv if iv is not None else [15.0] * len(closes), float))


def of_sessions() -> list[tuple[MarketMeasure, dict[str, Any]]]:
    """Every measure of completed sessions, with its defaults."""
    out = []
    for measure in load().all():
        params = measure.declaration.defaults()
        if isinstance(measure, MarketMeasure) and measure.clock(params) == "session":
            out.append((measure, params))
    return out


def measured(measure: MarketMeasure, daily: DailyHistory, params: dict[str, Any]) -> np.ndarray:
    """A measure's series over a history, in its own terms."""
    return measure.of_history(daily, params) if isinstance(measure, Indicator) else measure.series(daily, params)


class AgainstOthersTest(unittest.TestCase):
    daily: DailyHistory

    @classmethod
    def setUpClass(cls) -> None:
        cls.daily = demo_history().daily

    def series(self, name: str, **params: object) -> np.ndarray:
        return measured(load()[name], self.daily, params)

    def test_realised_volatility(self) -> None:
        """Reference: pandas' rolling standard deviation; √252 is common practice."""
        returns = np.log(pd.Series(self.daily.close)).diff()
        wanted = returns.rolling(20).std(ddof=1) * np.sqrt(252) * 100
        np.testing.assert_allclose(self.series("realised_volatility", sessions=20), wanted, atol=1e-9)

    def test_rsi_by_wilders_recursion(self) -> None:
        """J. W. Wilder, New Concepts in Technical Trading Systems (1978): averages seeded with a plain mean."""
        change = np.diff(self.daily.close)
        up, down = np.maximum(change, 0)[:14].mean(), np.maximum(-change, 0)[:14].mean()
        wanted = [100 * up / (up + down)]
        for move in change[14:]:
            up, down = (13 * up + max(move, 0)) / 14, (13 * down + max(-move, 0)) / 14
            wanted.append(100 * up / (up + down))
        np.testing.assert_allclose(self.series("rsi", sessions=14)[14:], wanted, atol=1e-8)

    def test_distance_from_the_average(self) -> None:
        closes = pd.Series(self.daily.close)
        wanted = 100 * (closes / closes.rolling(50).mean() - 1)
        np.testing.assert_allclose(self.series("average_gap", sessions=50), wanted, atol=1e-9)

    def test_iv_rank(self) -> None:
        iv = pd.Series(self.daily.atm_iv)
        low, high = iv.rolling(126).min(), iv.rolling(126).max()
        np.testing.assert_allclose(self.series("iv_rank", sessions=126), 100 * (iv - low) / (high - low), atol=1e-9)

    def test_puts_that_were_traded_against_calls(self) -> None:
        recorded = list(chains(SHORT))
        wanted = []
        for chain in recorded:
            volume = {right: 0 for right in ("put", "call")}
            for contract, traded in zip(chain.contracts, chain.volume.tolist(), strict=True):
                volume[contract.right] += traded
            wanted.append(volume["put"] / volume["call"])
        found = measured(load()["put_call_volume"], short_history().daily, {})
        np.testing.assert_allclose(found, wanted, atol=0.0006)
        # without volume nothing is said
        silent = dataclasses.replace(recorded[-1], volume=np.zeros_like(recorded[-1].volume))
        made = in_memory([recorded[-2], silent], MK30, marrowick(), "two")
        known = measured(load()["put_call_volume"], made.daily, {})
        self.assertEqual(np.isnan(known).tolist(), [False, True])


class KnowledgeTest(unittest.TestCase):
    def test_a_longer_history_never_changes_an_earlier_value(self) -> None:
        daily = demo_history().daily
        for measure, params in of_sessions():
            whole = measured(measure, daily, params)
            for end in (260, 400, 615):
                np.testing.assert_array_equal(
                    measured(measure, daily.before(end), params), whole[:end], measure.declaration.id
                )

    def test_too_short_a_history_is_unvalued(self) -> None:
        for measure, params in of_sessions():
            self.assertIsNone(measure.value(history([]), params))
            if params:
                self.assertTrue(
                    np.isnan(measured(measure, history([100.0, 101.0]), params)[-1]), measure.declaration.id
                )

    def test_a_window_without_width_or_with_a_hole_is_unvalued(self) -> None:
        rank = load()["iv_rank"]
        self.assertIsNone(rank.value(history([1.0] * 6), {"sessions": 5}))
        holed = history([1.0] * 6, [10, 11, float("nan"), 12, 13, 14])
        self.assertIsNone(rank.value(holed, {"sessions": 5}))
        self.assertEqual(rank.value(history([1.0] * 5, [10, 12, 20, 15, 15]), {"sessions": 5}), 50.0)

    def test_values_are_rounded_to_their_grid(self) -> None:
        value = load()["average_gap"].value(history([100.0, 101.0, 103.0]), {"sessions": 3})
        self.assertEqual(value, 1.64)  # 103 / 101.333… - 1 = 1.6447… %


class OnceTest(unittest.TestCase):
    """A measure is computed once a timeline: what it says at any session is what it says of the history known then."""

    def test_known_values_are_those_of_the_history_known_then(self) -> None:
        from tests.engine.test_splits import AFTER, BEFORE, timeline

        for history in (short_history(), timeline(2.0, [*BEFORE, *AFTER])):
            for measure, params in (
                ("rsi", {"sessions": 2}),
                ("average_gap", {"sessions": 2}),
                ("realised_volatility", {"sessions": 2}),
            ):
                found = load()[measure].known(history, params)
                wanted = [
                    load()[measure].value(history.daily.before(n), {**params, "bars": "session"})
                    for n in range(len(history.dates) + 1)
                ]
                self.assertEqual([None if np.isnan(value) else value for value in found], wanted, measure)
                self.assertIs(load()[measure].known(history, params), found)

    def test_a_split_changes_the_units_of_what_came_before_it(self) -> None:
        from tests.engine.test_splits import AFTER, BEFORE, timeline

        history = timeline(2.0, [*BEFORE, *AFTER])
        gap = [v for v in load()["average_gap"].known(history, {"sessions": 2}) if not np.isnan(v)]
        self.assertTrue(gap and all(abs(value) < 5 for value in gap), f"no jump by half: {gap}")
