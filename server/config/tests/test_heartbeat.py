"""Long work says that it goes on, and jobs that would do the same do not pile up."""

from __future__ import annotations

import time
import unittest

from django.db import DatabaseError, transaction
from django.test import TestCase
from procrastinate.contrib.django.models import ProcrastinateJob

from config.heartbeat import beating
from market.ask import defer


class HeartbeatTest(unittest.TestCase):
    def test_it_beats_as_long_as_the_work_goes_on_and_no_longer(self) -> None:
        beats: list[float] = []

        def beat() -> None:
            beats.append(time.monotonic())
            if len(beats) == 2:
                raise DatabaseError("the database is away for a moment")

        with self.assertLogs("strell.heartbeat", "WARNING"), beating(beat, 0.02):
            end = time.monotonic() + 5
            while len(beats) < 4 and time.monotonic() < end:
                time.sleep(0.01)
        self.assertGreaterEqual(len(beats), 4)
        known = len(beats)
        time.sleep(0.1)
        self.assertEqual(len(beats), known)

    def test_short_work_says_nothing_and_what_it_raises_goes_on(self) -> None:
        beats: list[int] = []
        with self.assertRaises(KeyError), beating(lambda: beats.append(1), 30):
            raise KeyError("x")
        self.assertEqual(beats, [])


class DeferTest(TestCase):
    def test_of_jobs_that_would_do_the_same_one_waits(self) -> None:
        with transaction.atomic():
            for symbol in ("A", "A", "B", "A"):
                defer("market.fold", f"fold {symbol}", symbol=symbol)
        waiting = ProcrastinateJob.objects.filter(task_name="market.fold").values_list("queueing_lock", flat=True)
        self.assertEqual(sorted(waiting), ["fold A", "fold B"])
