"""Two runs side by side: differences that are there and those that are not."""

from __future__ import annotations

import datetime as dt
import unittest

import numpy as np

from strell_core.results.compare import Day, days, difference

DATES = [dt.date(2024, 1, 1) + dt.timedelta(days=n) for n in range(500)]


def record(values: np.ndarray) -> dict[dt.date, float]:
    return dict(zip(DATES, values.tolist(), strict=False))


class DifferenceTest(unittest.TestCase):
    def test_what_moves_both_is_no_difference(self) -> None:
        rng = np.random.default_rng(1)
        shared = rng.normal(0, 0.01, 500)
        one, other = shared + 0.0002 + rng.normal(0, 0.0005, 500), shared
        found = difference(record(one), record(other), 1)
        assert found is not None and found.likely is not None
        self.assertAlmostEqual(found.yearly, float((one - other).mean()) * 252)
        self.assertGreater(found.likely[0], 0.0)
        self.assertEqual(found.chance, 0.0)
        alone = difference(record(one), record(rng.permutation(shared)), 1)
        self.assertGreater((alone and alone.chance) or 0, 0.1, "unpaired, the same edge is lost in what moves both")

    def test_runs_that_are_as_good_differ_as_rarely_as_said(self) -> None:
        rare = 0
        for number in range(200):
            rng = np.random.default_rng(number)
            found = difference(record(rng.normal(0, 0.01, 300)), record(rng.normal(0, 0.01, 300)), 1)
            rare += ((found and found.chance) or 0) < 0.05
        self.assertLessEqual(rare, 19, "5 % of 200, and three deviations")

    def test_common_sessions_only(self) -> None:
        values = np.random.default_rng(2).normal(0, 0.01, 500)
        later = {date: value + 0.001 for date, value in record(values).items() if date >= DATES[450]}
        found = difference(record(values), later, 1)
        assert found is not None
        self.assertEqual((found.sessions, found.likely, found.chance), (50, None, None))
        self.assertAlmostEqual(found.yearly, -0.252)
        self.assertIsNone(difference(record(values), {}, 1))
        self.assertIsNone(difference(record(np.append(values[:99], np.nan)), record(values[:100]), 1))

    def test_the_same_run_twice(self) -> None:
        values = record(np.random.default_rng(3).normal(0, 0.01, 100))
        found = difference(values, values, 1)
        self.assertEqual(found and (found.yearly, found.likely, found.chance), (0.0, (0.0, 0.0), 1.0))


class DaysTest(unittest.TestCase):
    def test_trades_are_paired_by_the_day_of_their_entry(self) -> None:
        monday, tuesday, friday = DATES[0], DATES[1], DATES[4]
        found = days([(monday, 10.0), (monday, 5.0), (tuesday, -40.0)], [(monday, 12.0), (friday, 7.0)])
        self.assertEqual(found, [Day(tuesday, -40.0, None), Day(friday, None, 7.0), Day(monday, 15.0, 12.0)])
        self.assertEqual([day.apart for day in found], [-40.0, -7.0, 3.0])
        self.assertEqual(days([], []), [])
