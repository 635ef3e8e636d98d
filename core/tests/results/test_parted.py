"""Both sides of a day, each as a run by itself."""

from __future__ import annotations

import datetime as dt
import unittest

import empyrical
import numpy as np

from strell_core.results.parted import parted

DATES = [dt.date(2026, 1, 1) + dt.timedelta(days=n) for n in range(200)]


class PartedTest(unittest.TestCase):
    def test_each_side_is_what_empyrical_says_of_it(self) -> None:
        daily = np.random.default_rng(2).normal(0.0005, 0.01, 200)
        equity = 50_000 * np.cumprod(1 + daily)
        trades = [(DATES[n], float(n % 7 - 3)) for n in range(0, 200, 5)]
        for at in (70, 130):
            sides = parted(DATES, equity, 50_000, trades, DATES[at], 1)
            for side, own in zip(sides, (daily[:at], daily[at:]), strict=True):
                self.assertEqual(side.sessions, len(own))
                self.assertAlmostEqual(side.sharpe or 0, empyrical.sharpe_ratio(own), places=9)
                self.assertAlmostEqual(side.cagr or 0, empyrical.cagr(own), places=9)
                self.assertAlmostEqual(side.max_drawdown, empyrical.max_drawdown(own), places=9)
                assert side.likely is not None
                self.assertLess(side.likely[0], side.sharpe)
                self.assertGreater(side.likely[1], side.sharpe)
            self.assertEqual([side.trades for side in sides], [at // 5, 40 - at // 5])
            before = [pnl for date, pnl in trades if date < DATES[at]]
            self.assertAlmostEqual(sides[0].expectancy or 0, float(np.mean(before)))
            self.assertAlmostEqual(sides[0].win_rate or 0, sum(pnl > 0 for pnl in before) / len(before))

    def test_a_side_with_little_or_nothing(self) -> None:
        equity = np.full(200, 50_000.0)
        none, every = parted(DATES, equity, 50_000, [], DATES[0], 1)
        self.assertEqual(
            (none.sessions, none.sharpe, none.likely, none.trades, none.expectancy), (0, None, None, 0, None)
        )
        self.assertEqual((every.sessions, every.sharpe, every.max_drawdown, every.win_rate), (200, None, 0.0, None))
