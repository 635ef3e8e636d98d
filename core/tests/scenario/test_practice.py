"""The scenario's today goes on from the history, is the same everywhere, and knows nothing ahead of time."""

from __future__ import annotations

import datetime as dt
import unittest

import numpy as np

from strell_core.formats import cubes
from strell_core.market.calendars import marrowick
from strell_core.scenario.generator import MK30, Scenario
from strell_core.scenario.practice import PracticeScenario, sizes, traded
from tests.demo import SHORT

DAY = dt.date(2026, 11, 19)


class PracticeTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.practice = PracticeScenario(dt.date(2026, 11, 24), SHORT)
        cls.session = cls.practice.calendar.session(DAY)

    def test_the_history_is_untouched(self) -> None:
        known = Scenario(SHORT).path
        n = len(known.times)
        np.testing.assert_array_equal(self.practice.path.spot[:n], known.spot)
        with self.assertRaises(ValueError):
            self.practice.index_of(SHORT.end)

    def test_a_second_on_the_grid_is_the_recorded_snapshot(self) -> None:
        whole = self.practice.chain(self.practice.index_of(DAY))
        for column in (0, 50, len(whole.times) - 1):
            one = self.practice.at(DAY, int(whole.times[column]))
            np.testing.assert_array_equal(one.bid[:, 0], whole.bid[:, column])
            np.testing.assert_array_equal(one.iv[:, 0], whole.iv[:, column])
            self.assertEqual(one.contracts, whole.contracts)

    def test_the_same_day_is_the_same_however_far_ahead_one_looks(self) -> None:
        other = PracticeScenario(dt.date(2026, 12, 4), SHORT)
        self.assertEqual(
            other.at(DAY, self.session.open + 7777).bid.tobytes(),
            self.practice.at(DAY, self.session.open + 7777).bid.tobytes(),
        )

    def test_the_settlement_is_not_known_before_the_close(self) -> None:
        before = self.practice.at(DAY, self.session.close - 1)
        self.assertEqual(before.settlement, int(before.spot[0]))
        after = self.practice.at(DAY, self.session.close)
        self.assertEqual(
            after.settlement, self.practice.path.spot[self.practice.path.first[self.practice.index_of(DAY) + 1] - 1]
        )

    def test_sessions_start_near_the_close_before_and_move_like_the_history(self) -> None:
        _ = self.practice.path
        last = int(Scenario(SHORT).path.spot[-1])
        for index in sorted(self.practice.seconds):
            fine = self.practice.seconds[index]
            self.assertLess(abs(np.log(fine.spot[0] / last)), 0.06)
            moves = np.diff(np.log(fine.spot[::300].astype(float)))
            self.assertLess(0.03, float(moves.std() * np.sqrt(102 * 252)), "a year's volatility of more than 3 %")
            self.assertGreater(0.9, float(moves.std() * np.sqrt(102 * 252)))
            last = int(fine.spot[-1])

    def test_sizes_and_last_trades_are_within_the_quotes(self) -> None:
        chain = self.practice.at(DAY, self.session.open + 600)
        bids, asks = sizes(chain.contracts, self.session.open + 600)
        self.assertTrue(((bids >= 1) & (asks >= 1) & (bids <= 100) & (asks <= 100)).all())
        last = np.full(len(chain.contracts), -1, np.int32)
        for second in range(200):
            last = traded(chain, self.session.open + second, last)
        dealt = last >= 0
        self.assertGreater(int(dealt.sum()), 50)
        self.assertTrue(((last >= chain.bid[:, 0]) & (last <= chain.ask[:, 0]))[dealt].all())


class UnfinishedSessionTest(unittest.TestCase):
    """A session that is still being recorded is neither single nor at its last snapshot."""

    def test_flags_of_a_growing_session(self) -> None:
        practice = PracticeScenario(DAY, SHORT)
        session = practice.calendar.session(DAY)
        columns = [practice.at(DAY, session.open + 300 * n) for n in (1, 2)]
        one = cubes.in_memory(columns[:1], MK30, marrowick(), "x", unfinished=True)
        self.assertEqual((one.is_single.tolist(), one.is_last.tolist(), one.step_minutes(0)), ([False], [False], 5))
        done = cubes.in_memory(columns[:1], MK30, marrowick(), "x")
        self.assertEqual((done.is_single.tolist(), done.is_last.tolist()), ([True], [True]))
