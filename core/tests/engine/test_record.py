"""What is remembered of trades that ended: losses in a row, and those of one session."""

from __future__ import annotations

import datetime as dt
import unittest
from decimal import Decimal

from strell_core.engine.record import none_yet

MONDAY, TUESDAY = dt.date(2026, 10, 5), dt.date(2026, 10, 6)


class OutcomeTest(unittest.TestCase):
    def test_a_sessions_losses_and_its_result_are_of_that_session_alone(self) -> None:
        now = none_yet("one")
        for on, pnl, in_a_row, lost, brought in (
            (MONDAY, -10, 1, 1, -10), (MONDAY, -5, 2, 2, -15), (MONDAY, -1, 3, 3, -16), (MONDAY, 20, 0, 3, 4),
            (TUESDAY, 7, 0, 0, 7), (TUESDAY, 0, 0, 0, 7), (TUESDAY, -2, 1, 1, 5),
        ):  # fmt: skip
            now = now.after(on, Decimal(pnl))
            self.assertEqual((now.in_a_row, now.lost, now.pnl, now.on), (in_a_row, lost, Decimal(brought), on))
        self.assertEqual(now.lost_on, TUESDAY)
        self.assertEqual(none_yet("one").after(MONDAY, Decimal(-1)).after(TUESDAY, Decimal(1)).lost_on, MONDAY)
