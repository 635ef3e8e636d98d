"""Walking forward: against the same in pandas, on variants without an edge, and with one that is planted."""

from __future__ import annotations

import unittest

import numpy as np
import pandas as pd

from strell_core.results.walk import walk


class WalkTest(unittest.TestCase):
    def test_against_pandas(self) -> None:
        """Ratios by ``rolling`` and ``expanding`` of pandas, the choice by ``idxmax``."""
        rng = np.random.default_rng(5)
        daily = rng.normal(0.0003, 0.01, (7, 331))
        table = pd.DataFrame(daily.T)
        for train, test, anchored in ((60, 21, False), (100, 50, True), (331 // 2, 40, False)):
            found = walk(daily, train, test, anchored)
            assert found is not None
            window = table.expanding() if anchored else table.rolling(train)
            ratios = np.sqrt(252) * window.mean() / window.std()
            joined = []
            for step, at in zip(found.steps, range(train, 331, test), strict=True):
                best = ratios.loc[at - 1].idxmax()
                self.assertEqual((step.chosen, step.test_from), (best, at))
                self.assertAlmostEqual(step.before or 0, ratios.loc[at - 1].max(), places=9)
                joined.append(table[best].iloc[at : at + test])
            whole = pd.concat(joined)
            np.testing.assert_array_equal(found.daily, whole.to_numpy())
            self.assertAlmostEqual(found.sharpe or 0, np.sqrt(252) * whole.mean() / whole.std(), places=9)
            rest = np.sqrt(252) * table[train:].mean() / table[train:].std()
            self.assertAlmostEqual(found.middle or 0, rest.median(), places=9)
            self.assertAlmostEqual(found.best or 0, rest.max(), places=9)
            self.assertEqual(found.beaten, float((rest < found.sharpe).mean()))

    def test_without_an_edge_what_is_chosen_is_no_better_than_any(self) -> None:
        """Where it was chosen its ratio is high, where it is judged it is none, within three standard errors."""
        rng = np.random.default_rng(11)
        after, beaten, before = [], [], []
        for _ in range(200):
            found = walk(rng.normal(0, 0.01, (20, 504)), 126, 63)
            assert found is not None
            after.append(found.sharpe)
            beaten.append(found.beaten)
            before.append(found.before)
        self.assertLess(abs(np.mean(after)), 3 * np.std(after) / np.sqrt(200))
        self.assertLess(abs(np.mean(beaten) - 0.5), 3 * np.std(beaten) / np.sqrt(200))
        self.assertGreater(np.mean(before), 2.0)

    def test_a_planted_edge_is_found_and_kept(self) -> None:
        rng = np.random.default_rng(3)
        daily = rng.normal(0, 0.01, (20, 504))
        daily[13] += 0.003
        found = walk(daily, 126, 63)
        assert found is not None
        self.assertEqual({step.chosen for step in found.steps}, {13})
        self.assertEqual(found.sharpe, found.best)

    def test_what_does_not_move_is_not_chosen_and_little_is_no_walk(self) -> None:
        still = np.zeros((3, 100))
        found = walk(still, 40, 30)
        assert found is not None
        self.assertEqual([(step.chosen, step.before, step.after) for step in found.steps], [(None, None, None)] * 2)
        self.assertEqual((found.sharpe, found.beaten, found.daily.tolist()), (None, None, [0.0] * 60))
        moving = still.copy()
        moving[2] = np.tile([0.01, -0.005], 50)
        self.assertEqual([step.chosen for step in walk(moving, 40, 30).steps], [2, 2])  # type: ignore[union-attr]
        self.assertIsNone(walk(moving, 80, 30))
        self.assertIsNone(walk(moving, 100, 30))
