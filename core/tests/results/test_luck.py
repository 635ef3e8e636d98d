"""What chance alone gives: against a published example, and on searches whose truth is known."""

from __future__ import annotations

import math
import unittest
from itertools import permutations

import numpy as np
from scipy import stats
from scipy.special import ndtri

from strell_core.results import luck, metrics


def with_variance(count: int, variance: float) -> list[float]:
    values = np.random.default_rng(1).normal(size=count)
    return ((values - values.mean()) / values.std(ddof=1) * math.sqrt(variance)).tolist()


class PublishedTest(unittest.TestCase):
    """Source: D. Bailey and M. López de Prado, "The deflated Sharpe ratio" (2014), its numerical example, figures
    recalled from memory: a Sharpe ratio of 2.5 a year from 1250 sessions of 250 a year, skew -3, kurtosis 10, found by
    100 trials whose ratios have a variance of 1/2 a year."""

    def test_the_example(self) -> None:
        expected = luck.best_by_chance(with_variance(100, 0.5 / 250))
        self.assertAlmostEqual(expected, 0.1132, places=4)
        ratio = 2.5 / math.sqrt(250)
        self.assertAlmostEqual(luck.probability_above(ratio, expected, 1250, -3.0, 10.0), 0.9004, places=4)
        of_46 = luck.best_by_chance(with_variance(46, 0.5 / 250))
        self.assertAlmostEqual(luck.probability_above(ratio, of_46, 1250, -3.0, 10.0), 0.9505, places=4)

    def test_the_best_of_many_is_what_drawing_many_gives(self) -> None:
        rng = np.random.default_rng(2)
        for count in (10, 60, 300):
            drawn = rng.normal(size=(4000, count)).max(axis=1).mean()
            self.assertAlmostEqual(luck.best_by_chance(with_variance(count, 1.0)), float(drawn), delta=0.06)
        self.assertEqual(luck.best_by_chance([1.3]), 0.0)


class RecordTest(unittest.TestCase):
    def test_a_record_is_judged_by_its_own_moments(self) -> None:
        daily = np.random.default_rng(3).normal(0.0005, 0.01, 750)
        found = luck.beyond(daily)
        ratio = float(daily.mean() / daily.std(ddof=1))
        self.assertAlmostEqual(float(ndtri(found or 0)), ratio * math.sqrt(749), delta=0.05)
        skewed = np.where(np.arange(750) % 50 == 0, -0.09, 0.003)
        plain = luck.probability_above(float(skewed.mean() / skewed.std(ddof=1)), 0.0, 750, 0.0, 3.0)
        self.assertLess(luck.beyond(skewed) or 0, plain, "rare large losses make a good ratio less sure")
        for record in (daily, skewed):
            ratio = float(record.mean() / record.std(ddof=1))
            third, fourth = stats.skew(record), stats.kurtosis(record, fisher=False)
            by_scipy = luck.probability_above(ratio, 0.0, len(record), float(third), float(fourth))
            self.assertAlmostEqual(luck.beyond(record) or 0, by_scipy, places=12)

    def test_too_little_to_judge(self) -> None:
        self.assertIsNone(luck.beyond(np.random.default_rng(4).normal(size=59)))
        self.assertIsNone(luck.beyond(np.zeros(100)))
        self.assertIsNone(luck.beyond(np.append(np.ones(100), np.nan)))


class CalibrationTest(unittest.TestCase):
    """Searches without an edge are called lucky as often as the level says; a planted edge is found."""

    def searched(self, number: int, edge: float) -> luck.Searched:
        rng = np.random.default_rng(1000 + number)
        variants = rng.normal(0.0, 0.01, (20, 500))
        variants[0] += edge * 0.01 / math.sqrt(252)
        ratios = [metrics.sharpe(row) or 0.0 for row in variants]
        return luck.searched(variants[int(np.argmax(ratios))], ratios)

    def test_of_200_searches_without_an_edge(self) -> None:
        found = [self.searched(number, 0.0) for number in range(200)]
        rare = sum((search.chance or 0) < 0.05 for search in found)
        self.assertLessEqual(rare, 19, "5 % of 200, and three deviations")
        self.assertGreaterEqual(rare, 2)
        half = sum((search.chance or 0) < 0.5 for search in found)
        self.assertTrue(79 <= half <= 121, half)
        self.assertLessEqual(sum((search.deflated or 0) > 0.95 for search in found), 19)

    def alike(self, number: int, edge: float, common: float) -> tuple[luck.Searched, luck.Alike]:
        """Of variants that share so much of what they vary by."""
        rng = np.random.default_rng(5000 + number)
        own = rng.normal(0.0, 0.01, (20, 260))
        variants = math.sqrt(common) * rng.normal(0.0, 0.01, 260) + math.sqrt(1 - common) * own
        variants += edge * 0.01 / math.sqrt(252)
        ratios = [metrics.sharpe(row) or 0.0 for row in variants]
        found = luck.alike(variants)
        assert found is not None
        return luck.searched(variants[int(np.argmax(ratios))], ratios), found

    def test_of_200_searches_through_what_resembles_each_other(self) -> None:
        found = [self.alike(number, 0.0, 0.9) for number in range(200)]
        rare = sum(together.chance < 0.05 for _, together in found)
        self.assertLessEqual(rare, 19, "5 % of 200, and three deviations")
        self.assertGreaterEqual(rare, 2)
        half = sum(together.chance < 0.5 for _, together in found)
        self.assertTrue(79 <= half <= 121, half)
        # counted as though each were another, hardly any is called rare at all
        self.assertLess(sum((alone.chance or 0) < 0.5 for alone, _ in found), 60)
        self.assertTrue(2 < np.median([together.independent for _, together in found]) < 6)

    def test_as_many_as_there_are_where_nothing_is_shared(self) -> None:
        found = [self.alike(number, 0.0, 0.0)[1] for number in range(30)]
        self.assertTrue(14 < np.median([together.independent for together in found]) <= 20)
        planted = [self.alike(number, 5.0, 0.9)[1].chance < 0.05 for number in range(20)]
        self.assertGreater(sum(planted), 16)

    def test_too_few_to_resemble_each_other(self) -> None:
        self.assertIsNone(luck.alike(np.ones((1, 300))))
        self.assertIsNone(luck.alike(np.ones((5, 30))))
        still = luck.alike(np.zeros((3, 100)))
        assert still is not None
        self.assertEqual(still, (1.0, 1.0))

    def test_a_planted_edge(self) -> None:
        found = [self.searched(number, 4.5) for number in range(40)]
        self.assertGreaterEqual(sum((search.chance or 1) < 0.05 for search in found), 36)

    def test_one_alone_is_no_search(self) -> None:
        daily = np.random.default_rng(5).normal(0.001, 0.01, 300)
        alone = luck.searched(daily, [metrics.sharpe(daily) or 0])
        self.assertEqual((alone.variants, alone.best_by_chance), (1, 0.0))
        self.assertAlmostEqual(alone.deflated or 0, 1 - (alone.chance or 0))
        self.assertEqual(luck.searched(daily, []).variants, 1)


class OrderTest(unittest.TestCase):
    def test_deepest_falls_by_hand(self) -> None:
        pnl = [10.0] * 18 + [-100.0, -50.0]
        found = luck.order(pnl, 1)
        assert found is not None
        self.assertEqual(found.happened, -150.0, "as they came, the two losses last")
        self.assertEqual(found.deeper, 0.0)
        self.assertTrue(-150.0 <= found.deep <= found.middle <= -100.0)

    def test_its_quantiles_are_those_of_all_orders(self) -> None:
        """By going through every order of the unequal ones, among trades of nothing."""
        odd = [-3.0, -2.0, 4.0, -1.0, 2.0, 1.0]
        falls = []
        for way in permutations(odd):
            summed = np.cumsum(way)
            falls.append(float((summed - np.maximum(np.maximum.accumulate(summed), 0)).min()))
        found = luck.order(odd + [0.0] * 15, 2)
        assert found is not None
        self.assertAlmostEqual(found.middle, float(np.median(falls)), delta=0.01)
        self.assertAlmostEqual(found.deep, float(np.percentile(falls, 5)), delta=0.01)
        self.assertAlmostEqual(found.deeper, float((np.array(falls) < found.happened).mean()), delta=0.04)

    def test_bands_of_trades_drawn_again(self) -> None:
        rng = np.random.default_rng(6)
        pnl = rng.normal(5, 40, 400)
        found = luck.order(pnl.tolist(), 3)
        assert found is not None
        self.assertEqual((found.places[0], found.places[-1], len(found.places)), (1, 400, luck.BAND_POINTS))
        low, middle, high = found.bands[:, -1]
        reach = 1.645 * float(pnl.std()) * 20
        self.assertAlmostEqual(middle, float(pnl.sum()), delta=0.1 * reach)
        self.assertAlmostEqual(high - low, 2 * reach, delta=0.2 * reach)
        self.assertIsNone(luck.order([1.0] * 19, 1))

    def test_without_the_best(self) -> None:
        found = luck.best([float(n) for n in range(-10, 31)])
        self.assertEqual(found, luck.Best(410.0, 380.0, 2, 351.0))
        self.assertEqual(luck.best([5.0]), luck.Best(5.0, 0.0, 1, 0.0))
        self.assertIsNone(luck.best([]))
