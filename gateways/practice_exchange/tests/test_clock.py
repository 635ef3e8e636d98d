"""The clock of a market whose exchange is away for a while."""

from __future__ import annotations

import time
from unittest.mock import patch

from desk.tests.desk import DeskTestCase
from practice_exchange.exchange import Exchange
from venue import clock
from venue.clock import SILENT_SECONDS, market_now


class ClockTest(DeskTestCase):
    def setUp(self) -> None:
        super().setUp()
        clock.run(self.mara, "MK30", 10)
        self.began = time.time()

    def at(self, seconds: float) -> int:
        with patch("venue.clock.time.time", return_value=self.began + seconds):
            return market_now(self.venue())

    def test_a_silent_market_stands_after_a_few_seconds(self) -> None:
        reached = self.venue().reached
        self.assertEqual(self.at(2), reached + 20)
        self.assertEqual(self.at(30), reached + 10 * SILENT_SECONDS)
        self.assertEqual(self.at(3600), reached + 10 * SILENT_SECONDS)

    def test_time_goes_on_where_it_stood_and_never_back(self) -> None:
        reached = self.venue().reached
        told = self.at(45)
        with patch("venue.clock.time.time", return_value=self.began + 45):
            exchange = Exchange("MK30")
            exchange.wake()
            self.assertEqual(market_now(self.venue()), told)
            exchange.tick()
        after = self.venue()
        self.assertGreater(after.reached, reached)
        self.assertLessEqual(after.reached, told)
        self.assertEqual(self.at(46), told + 10)
