"""Sessions of the demo exchange, and the same machinery on a real one."""

from __future__ import annotations

import datetime as dt
import unittest

import exchange_calendars
import pandas as pd

from strell_core.market.calendars import JoinedCalendar, OwnCalendar, exchange, marrowick, own


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


class OwnCalendarTest(unittest.TestCase):
    def test_written_down_it_is_the_exchange_that_is_known(self) -> None:
        """Reference: exchange_calendars' Lisbon sessions, their hours and holidays written down by hand."""
        theirs = exchange("XLIS")
        start, end = dt.date(2024, 1, 1), dt.date(2026, 12, 31)
        known = theirs.between(start, end)
        everyday = [start + dt.timedelta(n) for n in range((end - start).days + 1)]
        closed = tuple(d for d in everyday if d.weekday() < 5 and d not in theirs)
        close = {d: theirs.local(theirs.session(d).close).time() for d in known}
        usual = max(close.values())
        short = tuple((d, at) for d, at in close.items() if at != usual)
        made = own(OwnCalendar("HARBOUR", "Europe/Lisbon", dt.time(8), usual, closed=closed, short=short))
        self.assertGreater(len(short), 0)
        self.assertEqual(made.between(start, end), known)
        self.assertEqual([made.session(d) for d in known], [theirs.session(d) for d in known])

    def test_what_stands_against_one(self) -> None:
        good = OwnCalendar("SKERRY", "Europe/Lisbon", dt.time(9), dt.time(17))
        self.assertEqual(good.problems(), [])
        for facts, place in (
            (OwnCalendar("XNYS", "Europe/Lisbon", dt.time(9), dt.time(17)), "name"),
            (OwnCalendar("MARROWICK", "Europe/Lisbon", dt.time(9), dt.time(17)), "name"),
            (OwnCalendar("SKERRY", "Europe/Atlantis", dt.time(9), dt.time(17)), "zone"),
            (OwnCalendar("SKERRY", "Europe/Lisbon", dt.time(17), dt.time(9)), "close"),
            (OwnCalendar("SKERRY", "Europe/Lisbon", dt.time(9), dt.time(17), weekdays=()), "weekdays"),
            (
                OwnCalendar(
                    "SKERRY", "Europe/Lisbon", dt.time(9), dt.time(17), short=((dt.date(2026, 1, 2), dt.time(18)),)
                ),
                "short",
            ),
        ):
            self.assertEqual([where for where, _ in facts.problems()], [place], facts)

    def test_one_calendar_after_the_other(self) -> None:
        later = own(OwnCalendar("SKERRY", "Europe/Madrid", dt.time(10), dt.time(16), weekdays=(0, 1, 2, 3, 4, 5)))
        joined = JoinedCalendar([(dt.date(1900, 1, 1), marrowick()), (dt.date(2026, 10, 14), later)])
        week = joined.between(dt.date(2026, 10, 9), dt.date(2026, 10, 18))
        self.assertEqual(
            [d.day for d in week], [9, 12, 13, 14, 15, 16, 17], "a holiday of the first, Saturdays of the second"
        )
        hours = [joined.local(joined.session(d).open).strftime("%H:%M %Z") for d in week[2:4]]
        self.assertEqual(hours, ["09:00 WEST", "10:00 CEST"])
        self.assertEqual(joined.instant(week[3], dt.time(10)), joined.session(week[3]).open)


class DayOfAnInstantTest(unittest.TestCase):
    def test_a_session_that_opens_the_evening_before(self) -> None:
        """Reference: exchange_calendars' futures calendar, whose sessions open at 17:00 of the day before."""
        calendar = exchange("CMES")
        theirs = exchange_calendars.get_calendar("CMES", start="2026-10-20", end="2026-11-20")
        for minute in theirs.minutes[1 :: 60 * 5]:  # an instant that is both a close and an open is the close
            self.assertEqual(calendar.date_of(int(minute.timestamp())), theirs.minute_to_session(minute).date())

    def test_outside_of_sessions_it_is_the_local_date(self) -> None:
        night = marrowick().instant(dt.date(2026, 7, 9), dt.time(0, 30))
        self.assertEqual(marrowick().date_of(night), dt.date(2026, 7, 9))
