"""Sessions of the demo exchange, and the same machinery on a real one."""

from __future__ import annotations

import datetime as dt
import unittest

import exchange_calendars
import pandas as pd

from strell_core.market.calendars import marrowick


class MarrowickTest(unittest.TestCase):
    calendar = marrowick()

    def test_hours_follow_lisbon_through_daylight_saving(self) -> None:
        for date, offset in ((dt.date(2026, 1, 7), 0), (dt.date(2026, 7, 8), 1)):
            session = self.calendar.session(date)
            self.assertEqual(self.calendar.local(session.open).strftime("%H:%M"), "09:00")
            self.assertEqual(self.calendar.local(session.close).strftime("%H:%M"), "17:30")
            self.assertEqual(dt.datetime.fromtimestamp(session.open, dt.UTC).hour, 9 - offset)

    def test_daylight_saving_changes_on_the_day_lisbon_says(self) -> None:
        """Reference: exchange_calendars' Lisbon session hours over the same weekend."""
        lisbon = exchange_calendars.get_calendar("XLIS", start="2026-03-20", end="2026-04-02")
        for date in (dt.date(2026, 3, 27), dt.date(2026, 3, 30)):
            theirs = lisbon.session_open(pd.Timestamp(date)).tz_convert("Europe/Lisbon").utcoffset()
            ours = self.calendar.local(self.calendar.session(date).open).utcoffset()
            self.assertEqual(ours, theirs)

    def test_own_holidays_and_half_days(self) -> None:
        for date in (dt.date(2026, 2, 11), dt.date(2026, 10, 14), dt.date(2026, 4, 3), dt.date(2026, 4, 6)):
            self.assertNotIn(date, self.calendar)
        half = self.calendar.session(dt.date(2025, 12, 24))
        self.assertEqual(self.calendar.local(half.close).strftime("%H:%M"), "13:00")

    def test_look_ups(self) -> None:
        self.assertEqual(self.calendar.on_or_before(dt.date(2026, 10, 14)), dt.date(2026, 10, 13))
        self.assertEqual(
            self.calendar.between(dt.date(2026, 10, 9), dt.date(2026, 10, 12)),
            [dt.date(2026, 10, 9), dt.date(2026, 10, 12)],
        )
        with self.assertRaises(KeyError):
            self.calendar.session(dt.date(2026, 10, 11))
        with self.assertRaises(ValueError):
            self.calendar.on_or_before(dt.date(1999, 1, 1))
        at = self.calendar.instant(dt.date(2026, 7, 8), dt.time(15, 45))
        self.assertEqual(self.calendar.local(at).isoformat(), "2026-07-08T15:45:00+01:00")
