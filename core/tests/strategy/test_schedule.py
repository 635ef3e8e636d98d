"""Looks with their status, and the next one on a calendar."""

from __future__ import annotations

import datetime as dt
import unittest

from strell_core.market.calendars import marrowick
from strell_core.strategy.schedule import DUE, MISSED, POLICY_SKIP, Schedule
from tests.demo import short_history
from tests.handmade import instant, session_chains, timeline_of


class ScheduleTest(unittest.TestCase):
    def test_every_look_has_a_status_and_nothing_else_has(self) -> None:
        timeline = short_history()
        for decides in (True, False):
            schedule = Schedule(dict.fromkeys((0, 2), (15 * 60 + 45,)), decides)
            looks = set(schedule.looks(timeline, 0, len(timeline.times)).tolist())
            found = {i: status for i in range(len(timeline.times)) if (status := schedule.status(timeline, i))}
            self.assertEqual(set(found), looks)
            wanted = {DUE} if decides else {DUE, POLICY_SKIP}
            self.assertEqual(set(found.values()), wanted)

    def test_one_step_late_is_due_and_a_minute_more_is_missed(self) -> None:
        def status(*times: str) -> list[str | None]:
            rows = [{"at": f"2026-10-05 {time}", "spot": 3100, "2026-10-16/call/3150": "6.00/6.20"} for time in times]
            timeline = timeline_of(session_chains(rows))
            return [Schedule({0: (15 * 60 + 45,)}).status(timeline, i) for i in range(len(times))]

        self.assertEqual(status("15:35", "15:40", "15:50"), [None, None, DUE])
        self.assertEqual(status("15:35", "15:40", "15:51"), [None, None, MISSED])
        self.assertEqual(status("15:30", "15:35"), [None, MISSED], "the session ended before it")

    def test_the_next_look(self) -> None:
        schedule, calendar = Schedule(dict.fromkeys((0, 2), (15 * 60 + 45,))), marrowick()
        monday = dt.date(2026, 10, 5)
        self.assertEqual(
            schedule.next_after(calendar, monday, instant("2026-10-05 15:44")), instant("2026-10-05 15:45")
        )
        self.assertEqual(
            schedule.next_after(calendar, monday, instant("2026-10-05 15:45")), instant("2026-10-07 15:45")
        )
        never = Schedule({})
        self.assertIsNone(never.next_after(calendar, monday, instant("2026-10-05 09:00")))
