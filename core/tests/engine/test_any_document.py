"""Whatever the declarations allow is decided without a crash, in steps and blocks alike; what they do not is refused by
place and value. ``STRELL_DOCUMENTS`` says how many (ten thousand are tried by hand)."""

from __future__ import annotations

import os
import unittest
from decimal import Decimal

from strell_core.engine.plain import to_plain
from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks, run_steps
from strell_core.engine.stored import dump
from strell_core.formats.strategies import from_text, to_text
from strell_core.strategy.document import DocumentError, normalise, parse
from strell_core.strategy.sentences import sheet
from tests.demo import SHORT, market_with_reports
from tests.drawn import WHOLE
from tests.engine.any_document import Maker

COUNT = int(os.environ.get("STRELL_DOCUMENTS", "150" if WHOLE else "60"))
CASH = Decimal(500_000)


class AnyDocumentTest(unittest.TestCase):
    def test_valid_ones_are_decided_alike(self) -> None:
        market = market_with_reports(SHORT)
        timeline = market.main
        entered = closed = refused = 0
        for seed in range(COUNT):
            raw = Maker(seed).document()
            try:
                document = normalise(raw)
            except DocumentError as error:
                refused += 1
                self.assertTrue(all(p.message and p.path for p in error.problems), error)
                continue
            with self.subTest(seed):
                self.assertEqual(from_text(to_text(document)), document)
                self.assertFalse(any("{" in sentence.text for sentence in sheet(document).sentences))
                plan = make_plan(parse(document), timeline)
                # three sessions of several snapshots, wherever the dice fall
                begin = int(timeline.first[len(timeline.dates) - 4 - seed % 20])
                end = int(timeline.first[len(timeline.dates) - 1 - seed % 20])
                blocks = run_blocks(plan, market, begin, end, CASH)
                steps = run_steps(plan, market, begin, end, CASH)
                self.assertEqual(to_plain(blocks.reasons), to_plain(steps.reasons))
                self.assertEqual(to_plain(blocks.closed), to_plain(steps.closed))
                self.assertEqual(dump(blocks.state), dump(steps.state))
                entered += sum(reason.kind == "entry" for reason in blocks.reasons)
                closed += len(blocks.closed)
        self.assertGreater(entered, COUNT / 10, "the dice say something that acts")
        self.assertLess(refused, COUNT / 3, "and mostly what is allowed")
        if COUNT >= 100:
            self.assertGreater(closed, 0)

    def test_damaged_ones_are_refused_at_their_place(self) -> None:
        refused = 0
        for seed in range(COUNT * 4):
            try:
                normalise(Maker(seed).damaged())
            except DocumentError as error:
                refused += 1
                for problem in error.problems:
                    self.assertTrue(problem.message)
                    self.assertLess(len(problem.message), 3_000)
        self.assertGreater(refused, COUNT)
