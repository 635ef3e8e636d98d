"""How far reports are, and what a series of one's own was at an instant: against loops over the calendar."""

from __future__ import annotations

import datetime as dt
from unittest import TestCase

import numpy as np

from strell_core.market.series import DatedSeries
from strell_core.measures import values
from strell_core.measures.frames import Frame
from strell_core.measures.measure import load
from tests.demo import BREADTH, REPORTS, SHORT, breadth, market_with_reports


class EventsTest(TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        load()
        cls.market = market_with_reports(SHORT)

    def by_session(self, measure: str, event: str = "report") -> dict[dt.date, float]:
        """What is known at each session's first snapshot."""
        timeline = self.market.main
        whole = values.over({"measure": measure, "event": event}, Frame(self.market, 0, len(timeline.times)))
        assert whole is not None
        for a, b in zip(timeline.first[:-1], timeline.first[1:], strict=True):
            self.assertEqual(len({str(value) for value in whole[a:b]}), 1, "it is known when the session begins")
        return {date: whole[at] for date, at in zip(timeline.dates, timeline.first[:-1], strict=True)}

    def test_a_report_after_the_close_is_one_session_away_on_its_day_and_none_behind_in_the_next(self) -> None:
        to, since = self.by_session("sessions_to_event"), self.by_session("sessions_since_event")
        dates = self.market.main.dates
        for report in REPORTS:
            place = dates.index(report)
            self.assertEqual([to[dates[place - n]] for n in range(4)], [1, 2, 3, 4])
            self.assertEqual([since[dates[place + 1 + n]] for n in range(4)], [0, 1, 2, 3])
        self.assertTrue(np.isnan(to[dates[-1]]) and np.isnan(since[REPORTS[0]]))

    def test_one_within_a_session_is_today_and_one_without_a_time_comes_at_the_open(self) -> None:
        timeline, calendar = self.market.main, self.market.main.calendar
        self.addCleanup(setattr, timeline, "underlying", timeline.underlying)
        day, before, after = (timeline.dates[place] for place in (40, 39, 41))
        for at, wanted in (
            (calendar.instant(day, dt.time(12)), {"to": (1, 0, np.nan), "since": (np.nan, np.nan, 1)}),
            (0, {"to": (1, np.nan, np.nan), "since": (np.nan, 0, 1)}),
        ):
            timeline.underlying = timeline.underlying.__class__(
                **{**timeline.underlying.__dict__, "events": ((day, at, f"Assembly {at}"),)}
            )
            for name, expected in wanted.items():
                found = self.by_session(f"sessions_{name}_event", f"assembly {at}")
                np.testing.assert_array_equal([found[date] for date in (before, day, after)], expected, name)
        self.assertTrue(all(np.isnan(v) for v in self.by_session("sessions_to_event", "nothing like it").values()))

    def test_the_last_report_moved_by_so_many_of_the_moves_that_were_paid_for(self) -> None:
        timeline = self.market.main
        for unit in ("expected", "percent"):
            whole = values.over(
                {"measure": "event_move", "event": "report", "unit": unit}, Frame(self.market, 0, len(timeline.times))
            )
            assert whole is not None
            found = [float(whole[at]) for at in timeline.first[:-1]]
            known = np.nan
            for place, date in enumerate(timeline.dates):
                eve = place - 2  # a report comes after the close of its day, and is told by the next
                if eve >= 0 and timeline.dates[eve] in REPORTS:
                    closes = timeline.daily.close[timeline.daily.earlier + eve :][:2]
                    known = abs(closes[1] / closes[0] - 1) * 100
                    if unit == "expected":
                        view = timeline.view(int(timeline.first[eve + 1]) - 1)
                        first = next(day for day in view.expirations if day >= timeline.dates[eve + 1])
                        call, put = view.slice(first, "call"), view.slice(first, "put")
                        both = [row for row in range(len(call.strikes)) if call.valid[row] and put.valid[row]]
                        at = min(both, key=lambda row: abs(call.strikes[row] - call.forward))
                        paid = sum(float(side.bid[at]) + float(side.ask[at]) for side in (call, put)) / 2
                        known /= 100 * paid * float(timeline.underlying.quantum) / (view.spot / 100)
                self.assertEqual(np.isnan(found[place]), np.isnan(known), date)
                if not np.isnan(known):
                    self.assertAlmostEqual(found[place], known, delta=0.0006)
            self.assertGreater(len({value for value in found if not np.isnan(value)}), 1)

    def test_a_series_counts_from_the_day_after_and_grows_old(self) -> None:
        timeline, known = self.market.main, breadth(self.market.main.dates)
        frame = Frame(self.market, 0, len(timeline.times))
        value = values.over({"measure": "series_value", "series": BREADTH}, frame)
        age = values.over({"measure": "series_age", "series": BREADTH}, frame)
        assert value is not None and age is not None
        for index in range(0, len(timeline.times), 7):
            local = timeline.calendar.local(int(timeline.times[index]))
            earlier = [date for date in known if date < local.date()]
            if not earlier:
                self.assertTrue(np.isnan(value[index]) and np.isnan(age[index]))
                continue
            self.assertEqual(value[index], known[max(earlier)])
            since = dt.datetime.combine(max(earlier) + dt.timedelta(days=1), dt.time(0), local.tzinfo)
            days = (local.timestamp() - since.timestamp()) / 86_400
            self.assertAlmostEqual(age[index], days, places=3)

    def test_a_series_that_is_not_there_is_unvalued_and_caches_are_of_its_values(self) -> None:
        market, frame = self.market, Frame(self.market, 0, 3)
        found = values.over({"measure": "series_value", "series": "NOTHING"}, frame)
        assert found is not None
        self.assertTrue(np.isnan(found).all())
        value = {"measure": "series_value", "series": BREADTH}
        other = DatedSeries(BREADTH, np.array([0]), np.array([1.0]))
        twin = market.__class__(market.main, series={BREADTH: other})
        self.assertNotEqual(values.data_of(value, market), values.data_of(value, twin))
