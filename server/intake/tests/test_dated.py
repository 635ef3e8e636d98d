"""Dated facts: loaded, loaded again, corrected, taken back, told, written out and read again."""

from __future__ import annotations

import datetime as dt
import json
from io import BytesIO
from typing import Any

from django.core.files.uploadedfile import SimpleUploadedFile

from config.tests.demo import DemoTestCase
from intake import dated_work
from intake import jobs as intake_jobs
from intake import services as intake
from intake.files import receive
from market.models import Bar, DatedChange, Intake, IntradayBars, MarketEvent, Rate, Series, Underlying
from market.terms import terms
from market.timelines import data_digest

CALENDAR = (
    "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//t//\r\nBEGIN:VEVENT\r\nUID:1\r\nSUMMARY:Report\r\n"
    "DTSTART;VALUE=DATE:20261105\r\nLOCATION:PLLM\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
)


class DatedTest(DemoTestCase):
    def load(self, text: str, name: str = "file.csv", **mapping: Any) -> Intake:
        made = receive(self.mara, name, BytesIO(text.encode()))
        intake.start(self.mara, made.pk, {**made.mapping, **mapping}, made.terms, False, queue=False)
        intake_jobs.carry_out(made.pk)
        made.refresh_from_db()
        return made

    def counts(self, made: Intake, subject: str = "PLLM") -> tuple[int, int, int]:
        mine = made.report["sessions"][subject]
        return mine["new"], mine["changed"], mine["same"]

    def get(self, path: str) -> Any:
        return self.client.get(f"/api{path}").json()

    def operate(self) -> None:
        """Mara operates the exchange from now on."""
        self.mara.is_staff = True
        self.mara.save(update_fields=["is_staff"])

    def test_bars_again_corrected_and_taken_back(self) -> None:
        text = "date,symbol,open,high,low,close\n2026-11-03,PLLM,84,86,83,85\n2026-11-04,PLLM,85,86,84,85.5\n"
        first = self.load(text)
        self.assertEqual((first.status, self.counts(first)), ("done", (2, 0, 0)))
        self.assertEqual(self.counts(self.load(text)), (0, 0, 2))
        third = self.load(text.replace("85.5", "85.75"))
        self.assertEqual(self.counts(third), (0, 1, 1))
        self.assertEqual(self.get("/data/PLLM/facts/bars")[1]["close"], 85.75)
        intake.take_back(self.mara, third.pk)
        self.assertEqual(self.get("/data/PLLM/facts/bars")[1]["close"], 85.5)
        intake.take_back(self.mara, first.pk)
        self.assertEqual(Bar.objects.filter(underlying__symbol="PLLM").count(), 0)

    def test_bars_within_sessions_are_joined(self) -> None:
        head = "datetime,symbol,close\n"
        self.load(head + "2026-11-03 09:05,PLLM,84\n2026-11-03 09:10,PLLM,85\n", zone="Europe/Lisbon")
        again = self.load(head + "2026-11-03 09:10,PLLM,85.5\n2026-11-03 09:15,PLLM,86\n", zone="Europe/Lisbon")
        self.assertEqual(self.counts(again), (0, 1, 0))
        self.assertEqual([b["close"] for b in self.get("/data/PLLM/facts/intraday")], [84.0, 85.5, 86.0])
        intake.take_back(self.mara, again.pk)
        self.assertEqual([b["close"] for b in self.get("/data/PLLM/facts/intraday")], [84.0, 85.0])
        self.assertEqual(IntradayBars.objects.get(underlying__symbol="PLLM").count, 2)

    def test_a_killed_intake_begun_anew_is_taken_back_whole(self) -> None:
        """What was there before the first try is what comes back."""
        self.load("date,symbol,amount\n2026-03-13,OSTL,0.55\n")
        made = receive(self.mara, "f.csv", BytesIO(b"date,symbol,amount\n2026-03-13,OSTL,0.60\n2026-09-14,OSTL,0.6\n"))
        intake.start(self.mara, made.pk, made.mapping, made.terms, False, queue=False)
        Intake.objects.filter(pk=made.pk).update(status=Intake.Status.RUNNING)
        made.refresh_from_db()
        dated_work.DatedWork(made).run()  # the first worker stored everything and died before it could say so
        Intake.objects.filter(pk=made.pk).update(status=Intake.Status.QUEUED)
        intake_jobs.carry_out(made.pk)
        self.assertEqual(DatedChange.objects.filter(intake=made).count(), 2)
        intake.take_back(self.mara, made.pk)
        self.assertEqual(self.get("/data/OSTL/facts/dividends"), [{"date": "2026-03-13", "amount": 0.55}])

    def test_dividends_change_what_american_deltas_rest_on(self) -> None:
        row = Underlying.objects.create(
            symbol="PLLM", name="Pellam", currency="EUR", multiplier=100, quantum="0.01", calendar="MARROWICK", rate=0.02,
            kind="stock", american=True, owner=self.mara,
        )  # fmt: skip
        row.refresh_from_db()
        before = data_digest(row)
        made = self.load("date,symbol,amount\n2026-12-14,PLLM,0.55\n")
        self.assertNotEqual(data_digest(row), before)
        self.assertEqual(terms(row).dividends, ((dt.date(2026, 12, 14), 0.55),))
        intake.take_back(self.mara, made.pk)
        self.assertEqual(data_digest(row), before)

    def test_splits_become_part_of_the_history(self) -> None:
        row = Underlying.objects.create(
            symbol="PLLM", name="Pellam", currency="EUR", multiplier=100, quantum="0.01", calendar="MARROWICK", rate=0.02,
            owner=self.mara,
        )  # fmt: skip
        row.refresh_from_db()
        before = data_digest(row)
        made = self.load("date,symbol,ratio\n2026-10-07,PLLM,3:1\n")
        self.assertEqual(terms(row).splits, ((dt.date(2026, 10, 7), 3.0),))
        self.assertNotEqual(data_digest(row), before)
        intake.take_back(self.mara, made.pk)
        self.assertEqual((terms(row).splits, data_digest(row)), ((), before))

    def test_a_split_to_come_stands_on_the_market_page(self) -> None:
        self.operate()
        last = self.history().dates[-1] + dt.timedelta(days=5)
        self.load(f"date,symbol,ratio\n{last},MK30,3:2\n")
        ahead = self.get("/market/MK30/surface")["ahead"]
        self.assertEqual([(one["date"], one["what"]) for one in ahead], [(last.isoformat(), "split 3 for 2")])

    def test_a_traded_markets_facts_are_its_operators(self) -> None:
        body = json.dumps([{"date": "2026-12-14", "amount": 1.5}])
        for client, status in ((self.client, 403), (self.other, 403)):
            answer = client.put("/api/data/MK30/dividends", body, content_type="application/json")
            self.assertEqual(answer.status_code, status, answer.content)
        self.operate()
        self.assertEqual(
            self.client.put("/api/data/MK30/dividends", body, content_type="application/json").status_code, 200
        )
        self.assertEqual(self.get("/data/MK30/facts/dividends"), [{"date": "2026-12-14", "amount": 1.5}])

    def test_events_from_a_calendar(self) -> None:
        made = self.load(CALENDAR, "reports.ics")
        self.assertEqual((made.status, self.counts(made)), ("done", (1, 0, 0)))
        self.assertEqual(self.get("/data/PLLM/facts/events"), [{"date": "2026-11-05", "at": None, "event": "Report"}])
        body = json.dumps({"date": "2026-11-05", "what": "Report"})
        gone = self.client.post("/api/data/PLLM/facts/events/remove", body, content_type="application/json")
        self.assertEqual((gone.status_code, MarketEvent.objects.count()), (204, 0))
        again = self.client.post("/api/data/PLLM/facts/events/remove", body, content_type="application/json")
        self.assertEqual(again.status_code, 404)

    def test_rates_and_series_of_ones_own(self) -> None:
        rates = "date,currency,tenor,rate\n2026-03-02,EUR,3M,2.1\n"
        self.assertIn("operator", self.load(rates).message)
        self.assertFalse(Rate.objects.exists(), "everybody's chains rest on them")
        self.operate()
        self.load("date,currency,tenor,rate\n2026-03-02,EUR,3M,2.1\n2026-03-02,EUR,1Y,2.4\n")
        mine = self.load("date,value\n2026-03-02,-3.5\n", underlying="MOOD")
        self.assertEqual(Rate.objects.count(), 2)
        told = self.get("/data-others")
        self.assertEqual((told["rates"][0]["name"], told["series"][0]["name"]), ("EUR", "MOOD"))
        self.assertIn("2026-03-02,,-3.5", self.client.get("/api/data-others/series/MOOD.csv").content.decode())
        self.assertEqual(self.other.get("/api/data-others/series/MOOD.csv").status_code, 404, "not theirs")
        self.assertEqual(self.other.get("/api/data-others").json()["series"], [])
        intake.take_back(self.mara, mine.pk)
        self.assertFalse(Series.objects.exists())
        wrong = self.load("date,currency,tenor,rate\n2026-03-02,MONEY,3M,2.1\n")
        self.assertEqual(wrong.status, "failed")
        self.assertIn("three letters", wrong.message)

    def test_what_is_written_out_loads_back(self) -> None:
        self.load("date,symbol,ratio\n2026-03-02,PLLM,3:2\n")
        text = self.client.get("/api/data/PLLM/facts/splits/export.csv").content.decode()
        self.assertEqual(text, "date,ratio\r\n2026-03-02,1.5\r\n")
        self.assertEqual(self.counts(self.load(text, underlying="PLLM")), (0, 0, 1))

    def test_the_preview_says_what_would_be_read(self) -> None:
        file = SimpleUploadedFile("d.csv", b"ex_date,symbol,amount\n2026-03-13,OSTL,0.55\n2026-03-14,OSTL,zero\n")
        made = self.client.post("/api/intakes", {"file": file}).json()
        self.assertEqual(made["kind"], "dividends")
        seen = self.client.post(f"/api/intakes/{made['id']}/preview", "{}", content_type="application/json").json()
        self.assertEqual(seen["records"][0]["values"], {"amount": 0.55})
        self.assertEqual(seen["examples"][0]["reason"], "a number cannot be read")
        self.assertEqual(seen["symbols"], [{"symbol": "OSTL", "known": False, "rows": 1}])

    def test_only_the_operator_changes_facts_of_a_traded_market(self) -> None:
        refused = self.load("date,symbol,amount\n2026-03-13,MK30,1\n")
        self.assertEqual(refused.status, "failed")
        self.assertIn("MK30 is the operator's to change", refused.message)
        self.assertFalse(Underlying.objects.get(symbol="MK30").dividends.exists())
