"""Rules that read series of one's own and reports: whose they are, and what they were at an instant."""

from __future__ import annotations

import datetime as dt
from typing import Any

from config.errors import Refused
from config.tests.demo import DemoTestCase, document
from market.models import MarketEvent, Series, SeriesValue, Underlying
from market.own import market_for
from market.refresh import refresh
from runs.work import manifest
from strategies import services
from strategies.preview import preview
from strell_core.strategy.document import normalise


class OwnSeriesTest(DemoTestCase):
    def rules(self, *conditions: dict[str, Any]) -> dict[str, Any]:
        raw = {**document(), "name": "By a signal"}
        raw["entries"][0]["conditions"] = list(conditions)
        return normalise(raw)

    def setUp(self) -> None:
        super().setUp()
        mine = Series.objects.create(owner=self.mara, name="VIEW")
        for day, value in ((dt.date(2026, 11, 3), 1.5), (dt.date(2026, 11, 4), -2.0)):
            SeriesValue.objects.create(series=mine, date=day, value=value)
        self.by_view = self.rules(
            {"rule": "condition", "left": {"measure": "series_value", "series": "view"}, "is": "above", "right": 0}
        )

    def test_a_preview_and_a_run_read_what_was_known(self) -> None:
        strategy = services.create(self.mara, self.by_view)
        said = {}
        for day in (3, 4, 5):
            found = preview(strategy.latest.document, self.mara.pk, f"2026-11-0{day}T15:45")
            said[day] = found["verdicts"][0]["truth"], found["verdicts"][0]["text"]
        self.assertEqual(said[3][0], "unvalued")
        self.assertEqual(said[4], ("true", "the series “VIEW” is 1.5, above 0"))
        self.assertEqual(said[5], ("false", "the series “VIEW” is −2, needs above 0"))
        self.assertEqual(found["last_true"], "last true on 4 Nov 2026")
        never = self.rules({"rule": "condition", "left": {"measure": "price"}, "is": "above", "right": 99_999})
        told = preview(never, self.mara.pk, "2026-11-05T15:45")["last_true"]
        self.assertRegex(told, r"^not true at any of the \d+ decision times before$")
        run = self.finished_run(strategy)
        entered = [row["local"][:10] for row in run.decisions if row["kind"] == "entry"]
        self.assertEqual(entered, ["2026-11-04"])
        before = manifest(run, market_for(run.document, self.mara.pk))["series"]
        SeriesValue.objects.filter(series__name="VIEW").update(value=9)
        self.assertNotEqual(manifest(run, market_for(run.document, self.mara.pk))["series"], before)

    def test_another_persons_series_is_none_of_ones_own(self) -> None:
        with self.assertRaisesRegex(Refused, "You have no series VIEW; there is none yet") as refused:
            services.create(self.odil, self.by_view)
        self.assertEqual(refused.exception.problems[0]["path"], "entries/0/conditions/0/left/series")

    def test_a_series_that_is_taken_away_is_unvalued(self) -> None:
        strategy = services.create(self.mara, self.by_view)
        Series.objects.all().delete()
        found = preview(strategy.latest.document, self.mara.pk, "2026-11-04T15:45")
        self.assertEqual(found["verdicts"][0]["truth"], "unvalued")

    def test_reports_are_read_by_rules_once_they_are_known(self) -> None:
        row = Underlying.objects.get(symbol="MK30")
        before = row.data_digest
        MarketEvent.objects.create(underlying=row, date=dt.date(2026, 11, 5), event="Quarterly report")
        refresh(row)
        row.refresh_from_db()
        self.assertNotEqual(row.data_digest, before)
        rules = self.rules({"rule": "stay_out_event", "before": 2, "after": 1, "event": "report"})
        found = [preview(rules, self.mara.pk, f"2026-11-{day:02d}T15:45")["verdicts"][0] for day in (2, 3, 5, 6, 9)]
        self.assertEqual([item["truth"] for item in found], ["true", "false", "false", "false", "true"])
        self.assertEqual(found[1]["text"], "2 to the next, none since the last")
