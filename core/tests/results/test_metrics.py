"""Figures of a run against empyrical-reloaded, and by hand where it has none."""

from __future__ import annotations

import unittest
from decimal import Decimal

import empyrical
import numpy as np

from strell_core.results import metrics

START = 50_000.0


class AgainstEmpyricalTest(unittest.TestCase):
    """Reference: empyrical-reloaded on random daily returns."""

    def setUp(self) -> None:
        rng = np.random.default_rng(11)
        self.runs = [
            rng.normal(mean, spread, 500) for mean, spread in ((0.0004, 0.006), (-0.0005, 0.012), (0.001, 0.003))
        ]

    def test_growth_ratios_and_drawdown(self) -> None:
        for given in self.runs:
            equity = START * np.cumprod(1 + given)
            daily = metrics.returns(equity, START)
            np.testing.assert_allclose(daily, given, atol=1e-12)
            self.assertAlmostEqual(metrics.cagr(equity, START) or 0, empyrical.cagr(given), places=10)
            self.assertAlmostEqual(metrics.max_drawdown(equity, START).depth, empyrical.max_drawdown(given), places=10)
            self.assertAlmostEqual(metrics.sharpe(daily) or 0, empyrical.sharpe_ratio(given), places=10)
            self.assertAlmostEqual(metrics.sortino(daily) or 0, empyrical.sortino_ratio(given), places=10)
            mar = (metrics.cagr(equity, START) or 0) / -metrics.max_drawdown(equity, START).depth
            self.assertAlmostEqual(mar, empyrical.calmar_ratio(given), places=10)


class DrawdownTest(unittest.TestCase):
    def test_peak_trough_and_recovery(self) -> None:
        equity = np.array([110.0, 120.0, 90.0, 100.0, 121.0, 119.0])
        fall = metrics.max_drawdown(equity, 100.0)
        self.assertEqual((fall.peak, fall.trough, fall.recovered), (1, 2, 4))
        self.assertEqual(fall.depth, -0.25)
        self.assertEqual(metrics.longest_flat(equity, 100.0), 2)

    def test_reaching_the_peak_exactly_is_recovered_and_no_new_high(self) -> None:
        equity = np.array([120.0, 90.0, 120.0, 120.0])
        fall = metrics.max_drawdown(equity, 100.0)
        self.assertEqual((fall.peak, fall.trough, fall.recovered), (0, 1, 2))
        self.assertEqual(metrics.longest_flat(equity, 100.0), 1, "back at the high is flat no more")

    def test_equity_at_nothing_has_no_growth(self) -> None:
        for last in (0.0, -1.0):
            self.assertIsNone(metrics.cagr(np.array([50.0, last]), 100.0))
        self.assertIsNone(metrics.cagr(np.array([]), 100.0))
        self.assertIsNone(metrics.cagr(np.array([50.0]), 0.0))
        self.assertAlmostEqual(metrics.cagr(np.array([100.01]), 100.0) or 0, 1.0001**252 - 1)

    def test_from_less_than_nothing_there_is_no_return(self) -> None:
        daily = metrics.returns(np.array([50.0, -50.0, 25.0, 30.0]), 100.0)
        self.assertEqual(daily[:2].tolist(), [-0.5, -2.0])
        self.assertTrue(np.isnan(daily[2:]).all(), "also where equity came back from below zero")

    def test_falling_from_the_start_and_never_back(self) -> None:
        fall = metrics.max_drawdown(np.array([95.0, 80.0, 90.0]), 100.0)
        self.assertAlmostEqual(fall.depth, -0.2)
        self.assertIsNone(fall.recovered)

    def test_never_falling(self) -> None:
        self.assertEqual(metrics.max_drawdown(np.array([100.0, 101.0]), 100.0).depth, 0.0)


class TradeFiguresTest(unittest.TestCase):
    def test_by_hand(self) -> None:
        pnl = [Decimal(v) for v in ("200", "100", "-150", "0")]
        credit = [Decimal(v) for v in ("400", "400", "-300", "200")]
        found = metrics.trade_figures(pnl, credit)
        self.assertEqual((found.count, found.win_rate), (4, 0.5))
        self.assertEqual((found.average_win, found.average_loss, found.expectancy), (150.0, -150.0, 37.5))
        self.assertEqual(found.profit_factor, 2.0)
        self.assertEqual(found.credit_kept, 0.3)
        self.assertEqual(found.worst, -150.0)

    def test_without_trades_or_losses_figures_are_missing_and_not_zero(self) -> None:
        self.assertIsNone(metrics.trade_figures([], []).win_rate)
        only_wins = metrics.trade_figures([Decimal(5)], [Decimal(-5)])
        self.assertIsNone(only_wins.profit_factor)
        self.assertIsNone(only_wins.credit_kept)

    def test_a_flat_or_lost_account_has_no_ratio(self) -> None:
        self.assertIsNone(metrics.sharpe(np.zeros(10)))
        self.assertIsNone(metrics.cagr(np.array([100.0, -5.0]), 100.0))


class IntervalTest(unittest.TestCase):
    def test_the_interval_holds_the_growth_and_is_repeatable(self) -> None:
        daily = np.random.default_rng(3).normal(0.0004, 0.006, 500)
        low, high = metrics.interval_of_mean_growth(daily, seed=1) or (0, 0)
        growth = metrics.cagr(START * np.cumprod(1 + daily), START) or 0
        self.assertLess(low, growth)
        self.assertGreater(high, growth)
        self.assertEqual(metrics.interval_of_mean_growth(daily, seed=1), (low, high))
        self.assertIsNone(metrics.interval_of_mean_growth(daily[:59], seed=1))
        self.assertIsNotNone(metrics.interval_of_mean_growth(daily[:60], seed=1))

    def test_its_ends_are_what_blocks_of_ten_give(self) -> None:
        """Made once more, block by block, as the paper has it."""
        daily = np.random.default_rng(5).normal(0.0005, 0.01, 63)
        rng = np.random.default_rng(9)
        starts, grown = rng.integers(0, 63, (1000, 7)), []
        for row in starts.tolist():
            drawn = [daily[(start + step) % 63] for start in row for step in range(10)][:63]
            grown.append(float(np.prod(1.0 + np.array(drawn)) ** (252 / 63) - 1))
        low, high = metrics.interval_of_mean_growth(daily, seed=9) or (0.0, 0.0)
        self.assertAlmostEqual(low, float(np.percentile(grown, 5)), places=10)
        self.assertAlmostEqual(high, float(np.percentile(grown, 95)), places=10)
