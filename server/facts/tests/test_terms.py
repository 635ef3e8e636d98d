"""Terms changed from a day on: told, corrected, taken out, and used for sessions loaded from then on."""

from __future__ import annotations

import datetime as dt
import json
from decimal import Decimal
from typing import Any

from config.tests.demo import DemoTestCase
from desk.tickets import read_limit, step_of
from market.models import Underlying
from market.terms import terms
from market.timelines import data_digest


class ContractTermsTest(DemoTestCase):
    def setUp(self) -> None:
        super().setUp()
        self.row = Underlying.objects.create(
            symbol="QUAY", name="Quay", currency="EUR", multiplier=100, quantum=Decimal("0.01"), calendar="MARROWICK",
            rate=0.02, kind="stock", american=True, owner=self.mara,
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

    def test_currency_and_price_steps_from_a_day_on(self) -> None:
        steps = [{"start": "3", "step": "0.10"}, {"start": 0, "step": 0.05}]
        found = self.change(start="2026-03-02", currency="usd", ticks=steps)
        self.assertEqual([p["currency"] for p in found], ["EUR", "USD"])
        self.assertEqual(found[0]["ticks"], [])
        self.assertEqual([(float(t["start"]), float(t["step"])) for t in found[1]["ticks"]], [(0, 0.05), (3, 0.1)])
        self.row.refresh_from_db()
        known = terms(self.row)
        self.assertEqual((known.currency, known.on(dt.date(2026, 3, 1)).currency), ("USD", "EUR"))
        self.assertEqual(step_of(self.row, 1, Decimal("4")), Decimal("0.1"))
        self.assertEqual(step_of(self.row, 2, Decimal("4")), Decimal("0.05"), "several legs trade in the finest")
        problems: list[tuple[str, str]] = []
        self.assertIsNone(read_limit("4.05", self.row, 1, problems))
        self.assertIn("off the tick of 0.1; next to it are 4.00 and 4.10", problems[0][1])
        self.assertEqual(read_limit("-4.10", self.row, 1, problems), -410)

    def test_price_steps_that_make_no_sense(self) -> None:
        for steps, words in (
            ([{"start": 1, "step": 0.05}], "begins at 0"),
            ([{"start": 0, "step": 0.005}], "multiple of the smallest step"),
            ([{"start": 0, "step": 0.05}, {"start": 0, "step": 0.1}], "a price of its own"),
            ([{"start": 0, "step": 0}], "multiple of the smallest step"),
        ):
            told = self.change(422, start="2026-03-02", ticks=steps)
            self.assertIn(words, told["message"])
        self.change(422, start="2026-03-02", currency="E1")
        self.assertFalse(self.row.periods.exists())

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
        self.assertEqual(traded.status_code, 403)
        self.assertFalse(self.row.periods.exists())
