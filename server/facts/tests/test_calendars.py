"""Calendars of one's own: written, followed, corrected, taken out, and whose they are."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any

from config.tests.demo import DemoTestCase
from market.calendars import calendar_for
from market.models import TermsChange, Underlying
from market.timelines import data_digest

RULES = {
    "zone": "Europe/Lisbon", "open": "10:00", "close": "16:00", "weekdays": [0, 1, 2, 3, 4],
    "closed": ["2026-11-03"], "short": [{"date": "2026-11-04", "close": "12:30"}],
}  # fmt: skip


class CalendarsTest(DemoTestCase):
    def keep(self, name: str = "SKERRY", client: Any = None, **changes: Any) -> tuple[int, Any]:
        """Written on top of whatever is there now."""
        there = {row["name"]: row["version"] for row in self.send("get", "/calendars")[1]}
        return self.send("put", f"/calendars/{name}", {"based_on": there.get(name), **RULES, **changes}, client)

    def follower(self) -> Underlying:
        return Underlying.objects.create(
            symbol="QUAY", name="Quay", currency="EUR", multiplier=100, quantum=Decimal("0.01"), calendar="SKERRY", rate=0.02,
            owner=self.mara,
        )  # fmt: skip

    def test_two_who_change_one_version_meet_in_a_conflict(self) -> None:
        version = self.keep()[1][0]["version"]
        self.assertEqual(self.keep(based_on=None)[0], 409, "it is there already")
        self.assertEqual(self.keep(based_on=version, open="09:30")[0], 200)
        status, told = self.keep(based_on=version, open="09:45")
        self.assertEqual(status, 409)
        self.assertIn("changed elsewhere", told["message"])
        self.assertEqual(self.send("get", "/calendars")[1][0]["open"], "09:30:00")
        self.assertEqual(self.keep("MARROW_TWO", based_on="0123456789ab")[0], 409, "what is gone is not changed")

    def test_written_down_it_can_be_followed(self) -> None:
        status, told = self.keep()
        self.assertEqual((status, told[0]["name"], told[0]["mine"]), (200, "SKERRY", True))
        self.assertIn("SKERRY", self.send("get", "/data/words")[1]["calendars"])
        calendar = calendar_for(self.follower())
        days = calendar.between(dt.date(2026, 11, 2), dt.date(2026, 11, 6))
        self.assertEqual([d.day for d in days], [2, 4, 5, 6])
        self.assertEqual(calendar.local(calendar.session(days[1]).close).strftime("%H:%M"), "12:30")
        self.assertEqual(self.send("get", "/calendars")[1][0]["used_by"], ["QUAY"])

    def test_a_correction_changes_what_the_history_rests_on(self) -> None:
        self.keep()
        row = self.follower()
        before = data_digest(row)
        self.assertEqual(self.keep()[0], 200)
        self.assertEqual(data_digest(row), before, "the same again")
        self.keep(closed=[])
        self.assertNotEqual(data_digest(row), before)
        self.assertIn(dt.date(2026, 11, 3), calendar_for(row))

    def test_what_is_refused_names_its_place(self) -> None:
        for changes, place in (
            ({"zone": "Europe/Atlantis"}, "zone"), ({"close": "09:00"}, "close"), ({"weekdays": []}, "weekdays"),
            ({"short": [{"date": "2026-11-04", "close": "18:00"}]}, "short"),
        ):  # fmt: skip
            status, told = self.keep(**changes)
            self.assertEqual((status, told["problems"][0]["path"]), (422, place), told)
        self.assertEqual(self.keep("XNYS")[0], 422, "a known exchange's name")
        self.assertEqual(self.keep(closed=["soon"])[0], 422)
        self.assertEqual(self.send("get", "/calendars")[1], [])

    def test_only_who_wrote_it_changes_it_and_only_while_nobody_follows_it_goes(self) -> None:
        self.keep()
        self.assertEqual(self.keep(client=self.other)[0], 403)
        self.assertEqual(self.send("delete", "/calendars/SKERRY", client=self.other)[0], 403)
        self.assertFalse(self.send("get", "/calendars", client=self.other)[1][0]["mine"])
        row = self.follower()
        status, told = self.send("delete", "/calendars/SKERRY")
        self.assertEqual(status, 409)
        self.assertIn("QUAY", told["message"])
        row.delete()
        self.assertEqual(self.send("delete", "/calendars/SKERRY"), (200, []))
        self.assertEqual(self.send("delete", "/calendars/SKERRY")[0], 404)

    def test_terms_lead_from_one_calendar_to_the_next(self) -> None:
        self.keep()
        row = self.follower()
        Underlying.objects.filter(pk=row.pk).update(calendar="MARROWICK")
        status, periods = self.send("post", "/data/QUAY/terms", {"start": "2026-11-05", "calendar": "SKERRY"})
        self.assertEqual((status, [p["calendar"] for p in periods]), (200, ["MARROWICK", "SKERRY"]))
        row.refresh_from_db()
        calendar = calendar_for(row)
        opens = [
            calendar.local(calendar.session(dt.date(2026, 11, day)).open).strftime("%H:%M") for day in (3, 4, 5, 6)
        ]
        self.assertEqual(opens, ["09:00", "09:00", "10:00", "10:00"])
        self.assertEqual(TermsChange.objects.filter(underlying=row).count(), 2)
        self.assertEqual(self.send("post", "/data/QUAY/terms", {"start": "2026-11-06", "calendar": "NOWHERE"})[0], 422)
