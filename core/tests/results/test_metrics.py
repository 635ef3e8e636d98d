"""Figures of a run against empyrical-reloaded, and by hand where it has none."""

from __future__ import annotations

import datetime as dt
import unittest
from decimal import Decimal

import empyrical
import numpy as np
import scipy.stats

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


class TailTest(unittest.TestCase):
    def test_skew_and_tail(self) -> None:
        """References: scipy's skewness, empyrical-reloaded's conditional value at risk."""
        moves = np.random.default_rng(12).gamma(2.0, 50.0, 400) * -1 + 100
        self.assertAlmostEqual(metrics.skewness(moves) or 0, float(scipy.stats.skew(moves)), places=10)
        self.assertLess(metrics.skewness(moves) or 0, 0)
        self.assertAlmostEqual(
            metrics.tail_mean(moves) or 0, empyrical.conditional_value_at_risk(moves, 0.05), delta=1.0
        )
        self.assertAlmostEqual(metrics.tail_mean(moves) or 0, float(np.sort(moves)[:20].mean()), places=10)
        self.assertEqual(metrics.tail_mean(np.array([5.0, -3.0])), -3.0, "one at least")
        self.assertEqual((metrics.skewness(np.zeros(5)), metrics.skewness(np.array([]))), (None, None))
        self.assertIsNone(metrics.tail_mean(np.array([])))

    def test_calmar_looks_at_36_months(self) -> None:
        """Reference: empyrical-reloaded's Calmar ratio of the last 756 days."""
        given = np.random.default_rng(13).normal(0.0004, 0.008, 1000)
        equity = START * np.cumprod(1 + given)
        self.assertAlmostEqual(metrics.calmar(equity, START) or 0, empyrical.calmar_ratio(given[-756:]), places=10)
        whole = metrics.calmar(equity[:756], START)
        self.assertAlmostEqual(whole or 0, empyrical.calmar_ratio(given[:756]), places=10)
        self.assertIsNone(metrics.calmar(equity[:755], START))
        self.assertIsNone(metrics.calmar(np.linspace(100, 200, 800), 100.0), "nothing fell")


class RollingTest(unittest.TestCase):
    def test_each_is_the_figure_of_its_window(self) -> None:
        """Reference: empyrical-reloaded's rolling Sharpe ratio."""
        daily = np.random.default_rng(14).normal(0.0003, 0.01, 200)
        found = metrics.rolling_sharpe(daily, 63)
        self.assertTrue(np.isnan(found[:62]).all())
        np.testing.assert_allclose(found[62:], empyrical.roll_sharpe_ratio(daily, window=63), atol=1e-10)
        self.assertTrue(np.isnan(metrics.rolling_sharpe(np.zeros(100), 63)).all())
        self.assertTrue(np.isnan(metrics.rolling_sharpe(daily[:10], 63)).all())

    def test_means(self) -> None:
        np.testing.assert_allclose(metrics.rolling_mean(np.array([1.0, 2.0, 6.0]), 2), [np.nan, 1.5, 4.0])
        self.assertTrue(np.isnan(metrics.rolling_mean(np.array([1.0]), 2)).all())


class MonthsTest(unittest.TestCase):
    def test_every_month_with_a_session(self) -> None:
        dates = [dt.date(2025, 12, 30), dt.date(2026, 1, 2), dt.date(2026, 1, 30), dt.date(2026, 3, 2)]
        found = metrics.by_month(dates, np.array([110.0, 90.0, 121.0, 0.0]), 100.0)
        self.assertEqual([month[:3] for month in found], [(2025, 12, 10.0), (2026, 1, 11.0), (2026, 3, -121.0)])
        np.testing.assert_allclose([month[3] for month in found], [0.1, 0.1, -1.0])
        self.assertIsNone(metrics.by_month(dates[:2], np.array([0.0, 5.0]), 100.0)[1][3], "from nothing no return")
        self.assertEqual(metrics.by_month([], np.array([]), 100.0), [])


class DrawdownTest(unittest.TestCase):
    def test_peak_trough_and_recovery(self) -> None:
        equity = np.array([110.0, 120.0, 90.0, 100.0, 121.0, 119.0])
        fall = metrics.max_drawdown(equity, 100.0)
        self.assertEqual((fall.peak, fall.trough, fall.recovered), (1, 2, 4))
        self.assertEqual(fall.depth, -0.25)
        self.assertEqual(metrics.flat_stretch(equity, 100.0), (2, 2, 3))

    def test_reaching_the_peak_exactly_is_recovered_and_no_new_high(self) -> None:
        equity = np.array([120.0, 90.0, 120.0, 120.0])
        fall = metrics.max_drawdown(equity, 100.0)
        self.assertEqual((fall.peak, fall.trough, fall.recovered), (0, 1, 2))
        self.assertEqual(metrics.flat_stretch(equity, 100.0), (1, 1, 1), "back at the high is flat no more")

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
        rising = np.array([100.0, 101.0])
        self.assertEqual(metrics.max_drawdown(rising, 100.0).depth, 0.0)
        self.assertEqual(metrics.flat_stretch(rising, 100.0), (0, 0, 0))


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
