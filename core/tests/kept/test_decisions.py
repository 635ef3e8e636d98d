"""Forty-six strategies decide over the demo's whole history what is kept of them, byte for byte."""

from __future__ import annotations

import unittest

from tests.demo import demo_history
from tests.kept.decisions import decided, kept, strategies


class KeptDecisionsTest(unittest.TestCase):
    tags = frozenset({"long"})

    def test_intents_reasons_fills_trades_and_equity_are_what_they_were(self) -> None:
        timeline, wanted = demo_history(), kept()
        for name, document in strategies().items():
            with self.subTest(name):
                found, _ = decided(document, timeline)
                self.assertEqual(found, wanted[name])
        self.assertEqual(set(wanted), set(strategies()))
        self.assertGreaterEqual(sum(item["closed"] for item in wanted.values()), 4000, "they are about something")
