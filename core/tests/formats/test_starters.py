"""Every starter is a strategy that finds something to enter in the demo's history, and says what it is about."""

from __future__ import annotations

import unittest
from decimal import Decimal

from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks
from strell_core.formats.starters import starters
from strell_core.strategy.document import parse
from strell_core.strategy.sentences import sheet
from tests.demo import short_history


class StartersTest(unittest.TestCase):
    def test_one_of_each_family_with_what_it_lives_from(self) -> None:
        self.assertGreaterEqual(len(starters()), 20)
        self.assertEqual(len({starter.id for starter in starters()}), len(starters()))
        wanted = {
            "Single options", "Verticals", "Straddle and strangle", "Condor", "Butterflies", "Calendars", "Diagonals",
            "With the underlying", "Ratio", "Put-write ladder",
        }  # fmt: skip
        self.assertEqual({starter.family for starter in starters()}, wanted)
        for starter in starters():
            self.assertGreater(min(len(starter.lives), len(starter.hurts)), 40, starter.id)

    def test_each_is_a_short_sheet_that_enters_in_the_demo(self) -> None:
        timeline = short_history()
        for starter in starters():
            with self.subTest(starter.id):
                document = starter.document("Begun", "MK30")
                self.assertLessEqual(len(sheet(document).sentences), 24)
                if starter.needs_units:
                    continue
                plan = make_plan(parse(document), timeline)
                history = run_blocks(plan, timeline, 0, len(timeline.times), Decimal(250_000))
                self.assertTrue(any(reason.kind == "filled" for reason in history.reasons))
