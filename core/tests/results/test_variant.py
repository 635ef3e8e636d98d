"""A sweep's cell is its run; neighbours; what choosing the best is worth."""

from __future__ import annotations

import datetime as dt
import math
import unittest
from decimal import Decimal

import numpy as np

from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks
from strell_core.market.market import market_of
from strell_core.results import luck
from strell_core.results.plateau import neighbourhoods
from strell_core.results.report import report
from strell_core.results.variant import TOLD, outcome
from strell_core.strategy.document import normalise, parse
from strell_core.strategy.sweeps import varied
from tests.demo import short_history
from tests.examples import example


class OutcomeTest(unittest.TestCase):
    def test_a_cell_is_the_run_of_its_rules(self) -> None:
        timeline = short_history()
        document = normalise(example("harbour-strangle"))
        begin, end = timeline.span(timeline.dates[0], timeline.dates[-1])
        for delta in (0.1, 0.3):
            plan = make_plan(parse(varied(document, {"entries/0/legs/0/strike/delta": delta})), timeline)
            found = outcome(plan, market_of(timeline), begin, end, Decimal(50_000))
            whole = report(
                plan, timeline, run_blocks(plan, timeline, begin, end, Decimal(50_000)), begin, end, Decimal(50_000), 1
            )
            self.assertEqual(found.figures, {name: whole.figures[name] for name in TOLD})
            self.assertAlmostEqual(50_000 * float(np.prod(1 + found.daily)), float(whole.curve.equity[-1]), places=4)

    def test_after_ruin_nothing_moves(self) -> None:
        timeline = short_history()
        document = normalise(example("harbour-strangle"))
        document["entries"][0]["size"] = [{"rule": "fixed_lots", "lots": 100}]
        document["limits"] = [{"rule": "capital", "entries": "allow"}]
        plan = make_plan(parse(document), timeline)
        begin, end = timeline.span(dt.date(2000, 1, 1), timeline.dates[-1])
        found = outcome(plan, market_of(timeline), begin, end, Decimal(10_000))
        self.assertIsNotNone(found.figures["ruined_on"])
        self.assertEqual(len(found.daily), len(timeline.dates))
        self.assertEqual(float(found.daily[-1]), 0.0)


class NeighboursTest(unittest.TestCase):
    def test_by_hand(self) -> None:
        cells = [(x, y) for x in range(3) for y in range(3)]
        values = np.array([[0.0, 0, 0, 0, 9, 0, 0, 0, 0], np.arange(9.0)]).T
        both = neighbourhoods(cells, values, [True, True])
        np.testing.assert_allclose(both[:, 0], [9 / 4, 9 / 6, 9 / 4, 9 / 6, 1, 9 / 6, 9 / 4, 9 / 6, 9 / 4])
        self.assertEqual(both[[0, 4], 1].tolist(), [2.0, 4.0])
        np.testing.assert_allclose(neighbourhoods(cells, values, [False, True])[:, 0], [0, 0, 0, 4.5, 3, 4.5, 0, 0, 0])

    def test_what_has_no_value_is_no_neighbour(self) -> None:
        found = neighbourhoods([(0,), (1,), (4,)], np.array([[np.nan, 3.0, np.nan]]).T, [True])[:, 0]
        self.assertEqual(found[:2].tolist(), [3.0, 3.0])
        self.assertTrue(math.isnan(found[2]))


class OverfitTest(unittest.TestCase):
    def test_without_an_edge_the_best_is_as_often_below_the_middle_as_above(self) -> None:
        rng = np.random.default_rng(1)
        found = [luck.overfit(rng.normal(0, 0.01, (30, 240)), 8) for _ in range(60)]
        shares = [item.probability for item in found if item]
        self.assertAlmostEqual(float(np.mean(shares)), 0.5, delta=0.08)
        self.assertEqual(found[0] and found[0].splits, 70)

    def test_an_edge_that_lasts_is_found_again(self) -> None:
        rng = np.random.default_rng(2)
        daily = rng.normal(0, 0.01, (30, 480))
        daily[7] += 0.003
        found = luck.overfit(daily)
        self.assertLess(found.probability if found else 1, 0.02)
        self.assertEqual(found and found.splits, 924)

    def test_its_ranks_by_going_through_every_split(self) -> None:
        from itertools import combinations

        rng = np.random.default_rng(3)
        daily = rng.normal(0, 0.01, (7, 60))
        cut = np.split(daily, 4, axis=1)
        below = []
        for half in combinations(range(4), 2):
            inside = np.concatenate([cut[n] for n in half], axis=1)
            outside = np.concatenate([cut[n] for n in range(4) if n not in half], axis=1)
            best = int(np.argmax(inside.mean(axis=1) / inside.std(axis=1)))
            ratios = outside.mean(axis=1) / outside.std(axis=1)
            rank = (ratios < ratios[best]).sum() + 0.5
            below.append(rank / 7 <= 0.5)
        found = luck.overfit(daily, 4)
        self.assertAlmostEqual(found.probability if found else -1, float(np.mean(below)))

    def test_variants_that_are_all_the_same_say_nothing(self) -> None:
        same = np.tile(np.random.default_rng(4).normal(0, 0.01, 240), (5, 1))
        self.assertEqual(luck.overfit(same, 8), luck.Overfit(1.0, 70))
        self.assertIsNone(luck.overfit(same[:1], 8))
        self.assertIsNone(luck.overfit(same[:, :79], 8))
