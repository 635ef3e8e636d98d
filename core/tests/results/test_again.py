"""What else could have come out: the bootstrap against the `arch` package, its figures against the formulas of a run."""

from __future__ import annotations

import unittest
from decimal import Decimal

import numpy as np
from arch.bootstrap import StationaryBootstrap, optimal_block_length

from strell_core.results import again, bootstrap, metrics


def lasting(n: int, phi: float, rng: np.random.Generator) -> np.ndarray:
    """A record in which each value keeps a share of the one before."""
    out = rng.normal(size=n)
    for place in range(1, n):
        out[place] += phi * out[place - 1]
    return out


class BlocksTest(unittest.TestCase):
    def test_their_length_is_that_of_arch(self) -> None:
        """Reference: `arch` 8. In one or two of a hundred records it takes another lag to be noise: it divides an
        autocorrelation by sums that end one lag later."""
        rng = np.random.default_rng(1)
        apart = 0
        for phi in (0.0, 0.2, 0.5, 0.8, -0.3):
            for n in (60, 250, 751):
                for _ in range(10):
                    record = lasting(n, phi, rng)
                    theirs = max(1.0, float(optimal_block_length(record)["stationary"].iloc[0]))
                    apart += abs(bootstrap.block_length(record) - theirs) > 1e-9
        self.assertLessEqual(apart, 5)

    def test_what_lasts_asks_for_longer_blocks_and_what_is_even_for_none(self) -> None:
        rng = np.random.default_rng(2)
        loose, tight = (bootstrap.block_length(lasting(1000, phi, rng)) for phi in (0.0, 0.8))
        self.assertLess(loose, 8)
        self.assertGreater(tight, 12)
        self.assertEqual(bootstrap.block_length(np.full(100, 0.1)), 1.0)
        self.assertEqual(bootstrap.block_length(np.arange(5.0)), 1.0)

    def test_blocks_last_as_long_as_asked_and_go_round(self) -> None:
        places = bootstrap.drawn(100, 8.0, seed=3, samples=400)
        self.assertEqual(places.shape, (400, 100))
        follows = (places[:, 1:] == (places[:, :-1] + 1) % 100).mean()
        self.assertAlmostEqual(float(follows), 1 - 1 / 8 + 1 / 800, delta=0.01)
        self.assertTrue(((places[:, :-1] == 99) & (places[:, 1:] == 0)).any(), "the first comes after the last")
        self.assertAlmostEqual(float(places.mean()), 49.5, delta=2)
        counts = np.bincount(places.ravel(), minlength=100)
        self.assertGreater(counts.min(), 250, "every place is drawn as often as another")
        np.testing.assert_array_equal(places, bootstrap.drawn(100, 8.0, seed=3, samples=400))


class LikelyTest(unittest.TestCase):
    def test_ends_are_values_that_came_out(self) -> None:
        self.assertEqual(bootstrap.likely(np.arange(1001.0)), (50.0, 950.0))
        self.assertIsNone(bootstrap.likely(np.full(10, np.nan)))
        endless = np.concatenate([np.arange(90.0), np.full(10, np.inf)])
        self.assertIsNone(bootstrap.likely(endless), "an end that is endless is no range")

    def test_the_range_of_a_mean_is_that_of_arch(self) -> None:
        """Reference: `arch` 8, percentiles of 4000 samples of the same mean length."""
        record = lasting(500, 0.5, np.random.default_rng(4))
        length = bootstrap.block_length(record)
        theirs = StationaryBootstrap(length, record, seed=1).conf_int(np.mean, 4000, method="percentile", size=0.9)
        mine = bootstrap.likely(record[bootstrap.drawn(500, length, 5, 4000)].mean(axis=1))
        assert mine is not None
        width = float(theirs[1, 0] - theirs[0, 0])
        for low_high, reference in zip(mine, theirs[:, 0].tolist(), strict=True):
            self.assertAlmostEqual(low_high, reference, delta=0.05 * width)

    def test_nine_in_ten_ranges_hold_what_is_true(self) -> None:
        """Of 200 records with a known mean, where days hang together; published bootstraps are a little too narrow."""
        held = 0
        for number in range(200):
            record = lasting(500, 0.3, np.random.default_rng(100 + number))
            low, high = bootstrap.likely(record[bootstrap.rows_of(record, 1, 300)].mean(axis=1)) or (0.0, 0.0)
            held += low <= 0.0 <= high
        self.assertGreaterEqual(held, 165)
        self.assertLessEqual(held, 192)


class SampleFiguresTest(unittest.TestCase):
    """Every figure of a sample is what the run's formula gives of it."""

    def test_over_days(self) -> None:
        returns = np.random.default_rng(6).normal(0.0004, 0.01, (5, 300))
        days = again.Days(returns, 50_000.0)
        for place, daily in enumerate(returns):
            equity = 50_000.0 * np.cumprod(1 + daily)
            growth, fall = metrics.cagr(equity, 50_000.0), metrics.max_drawdown(equity, 50_000.0).depth
            assert growth is not None
            expected = {
                again.final_equities: equity[-1], again.growths: growth, again.falls: fall, again.mars: growth / -fall,
                again.sharpes: metrics.sharpe(daily), again.sortinos: metrics.sortino(daily),
            }  # fmt: skip
            for figure, value in expected.items():
                self.assertAlmostEqual(float(figure(days)[place]), float(value or 0), places=8, msg=figure.__name__)

    def test_over_trades(self) -> None:
        rng = np.random.default_rng(7)
        pnl, credits = rng.normal(20, 100, (4, 30)).round(2), rng.normal(100, 80, (4, 30)).round(2)
        trades = again.Trades(pnl, credits)
        for place in range(4):
            found = metrics.trade_figures(*([Decimal(str(v)) for v in row[place].tolist()] for row in (pnl, credits)))
            expected = {
                again.win_rates: found.win_rate, again.average_wins: found.average_win,
                again.average_losses: found.average_loss, again.expectancies: found.expectancy,
                again.profit_factors: found.profit_factor, again.credits_kept: found.credit_kept,
            }  # fmt: skip
            for figure, value in expected.items():
                self.assertAlmostEqual(float(figure(trades)[place]), float(value or 0), places=8, msg=figure.__name__)

    def test_a_sample_without_losses_has_an_endless_profit_factor_and_no_average_loss(self) -> None:
        trades = again.Trades(np.array([[1.0, 2.0]]), np.array([[-1.0, -2.0]]))
        self.assertTrue(np.isinf(again.profit_factors(trades)[0]))
        self.assertTrue(np.isnan(again.average_losses(trades)[0]))

    def test_too_little_is_not_drawn_again(self) -> None:
        daily = np.random.default_rng(8).normal(0, 0.01, 60)
        self.assertIsNone(again.days(daily[:59], 1.0, 1))
        self.assertEqual((again.days(daily, 1.0, 1) or self.fail()).returns.shape, (bootstrap.SAMPLES, 60))
        self.assertIsNone(again.days(np.append(daily, np.nan), 1.0, 1))
        amounts = [Decimal(n) for n in range(20)]
        self.assertIsNone(again.trades(amounts[:19], amounts[:19], 1))
        made = again.trades(amounts, [a * 2 for a in amounts], 1) or self.fail()
        np.testing.assert_array_equal(made.credits, 2 * made.pnl, "a trade's credit is drawn with it")
