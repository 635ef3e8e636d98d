"""Terms changed from a day on: told, corrected, taken out, and used for sessions loaded from then on."""

from __future__ import annotations

import datetime as dt
import json
from decimal import Decimal
from typing import Any

from config.tests.demo import DemoTestCase
from market.models import Underlying
from market.timelines import data_digest, terms


class ContractTermsTest(DemoTestCase):
    def setUp(self) -> None:
        super().setUp()
        self.row = Underlying.objects.create(
            symbol="QUAY", name="Quay", currency="EUR", multiplier=100, quantum=Decimal("0.01"), calendar="MARROWICK",
            rate=0.02, kind="stock", american=True,
        )  # fmt: skip

    def change(self, expect: int = 200, **body: Any) -> Any:
        answer = self.client.post("/api/data/QUAY/terms", json.dumps(body), content_type="application/json")
        self.assertEqual(answer.status_code, expect, answer.content)
        return answer.json()

    def test_from_a_day_on(self) -> None:
        before = data_digest(self.row)
        found = self.change(start="2026-03-02", multiplier=10, settles="open")
        self.assertEqual([p["start"] for p in found], [None, "2026-03-02"])
        self.assertEqual(
            [(p["multiplier"], p["settles"], p["american"]) for p in found], [(100, "close", True), (10, "open", True)]
        )
        self.row.refresh_from_db()
        self.assertEqual((self.row.multiplier, self.row.settles), (10, "open"), "the latest")
        self.assertNotEqual(data_digest(self.row), before)
        known = terms(self.row)
        self.assertEqual([known.on(dt.date(2026, 3, day)).multiplier for day in (1, 2)], [100, 10])

    def test_an_earlier_change_does_not_become_the_latest(self) -> None:
        self.change(start="2026-03-02", multiplier=10)
        self.change(start="2025-03-03", multiplier=20)
        self.row.refresh_from_db()
        self.assertEqual(self.row.multiplier, 10)
        self.assertEqual(len(self.change(start="2026-03-02", multiplier=5)), 3, "the same start corrects")

    def test_taken_out_again(self) -> None:
        before = data_digest(self.row)
        self.change(start="2026-03-02", multiplier=10)
        answer = self.client.delete("/api/data/QUAY/terms/2026-03-02")
        self.assertEqual([p["multiplier"] for p in answer.json()], [100])
        self.row.refresh_from_db()
        self.assertEqual((self.row.multiplier, data_digest(self.row)), (100, before))
        self.assertEqual(self.client.delete("/api/data/QUAY/terms/2026-03-02").status_code, 404)

    def test_what_is_refused(self) -> None:
        self.assertIn("multiplier", self.change(422, start="2026-03-02", multiplier=0)["message"])
        self.assertIn("open or at the close", self.change(422, start="2026-03-02", settles="noon")["message"])
        self.change(422, start="1800-01-01", multiplier=10)
        traded = self.client.post(
            "/api/data/MK30/terms",
            json.dumps({"start": "2026-03-02", "multiplier": 1}),
            content_type="application/json",
        )
        self.assertEqual(traded.status_code, 409)
        self.assertFalse(self.row.periods.exists())
