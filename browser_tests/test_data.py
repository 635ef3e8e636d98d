"""A person brings chains of their own: looks at the file, corrects how it is read, loads it, uses it, undoes it."""

from __future__ import annotations

import contextlib
import re
import shutil
import signal
import tempfile
from pathlib import Path

import pandas as pd
from playwright.sync_api import APIResponse, Error, Route, expect

from browser_tests.stage import BrowserTestCase
from market.models import Intake, SessionChainRow, Underlying
from market.terms import terms
from strell_core.formats.intake import export
from strell_core.market.calendars import marrowick
from strell_core.market.chains import decode


class DataStory(BrowserTestCase):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.folder = Path(tempfile.mkdtemp(prefix="strell-"))
        row = Underlying.objects.get(symbol="MK30")
        chains = SessionChainRow.objects.filter(underlying=row, current=True).order_by("-date")[:5]
        made = [export.table(decode(bytes(c.payload)), terms(row), marrowick()).to_pandas() for c in chains]
        frame = pd.concat(made)
        near = (frame["strike"] / frame["spot"] - 1).abs() < 0.05
        frame = frame[near & frame["at"].str[11:16].isin(["11:00", "15:45", "15:50"])]
        frame = frame.assign(underlying="QUAY", strike=(frame["strike"] * 1000).astype(int))
        frame = frame.drop(columns=["symbol", "iv", "spot"]).rename(columns={"bid": "what is paid"})
        cls.days = sorted(frame["at"].str[:10].unique())
        frame[frame["at"].str[:10] != cls.days[1]].to_csv(cls.folder / "quay.csv.gz", index=False)

    @classmethod
    def tearDownClass(cls) -> None:
        Underlying.objects.filter(symbol="QUAY").delete()
        Intake.objects.all().delete()
        shutil.rmtree(cls.folder, ignore_errors=True)
        super().tearDownClass()

    def test_from_a_file_to_data_and_back(self) -> None:
        page = self.page
        # the list of files as it was before the file is still on its way when the file has arrived
        held: list[tuple[Route, APIResponse]] = []

        def hold(route: Route) -> None:
            if route.request.method == "GET" and not held:
                held.append((route, route.fetch()))
            else:
                route.continue_()

        page.route(re.compile(r"/api/intakes$"), hold)
        self.sign_in("/data")
        while not held:
            page.wait_for_timeout(50)
        with page.expect_response(lambda answer: answer.request.method == "POST" and "/intakes" in answer.url):
            page.get_by_label("File of market data").set_input_files(self.folder / "quay.csv.gz")
        page.wait_for_timeout(200)
        route, answer = held[0]
        with contextlib.suppress(Error):  # the page no longer waits for it
            route.fulfill(response=answer)
        columns = page.get_by_role("region", name="Columns")
        first = page.get_by_role("region", name="First rows")

        # the bid has a name nobody knows: it is said, and nothing can be loaded before it is named
        expect(first).to_contain_text("Say which column is the bid.")
        load = page.get_by_role("button", name="Load it")
        expect(load).to_be_disabled()
        columns.get_by_role("combobox", name="Bid", exact=True).select_option("what is paid")
        # strikes in thousandths are not recognised without the underlying's price; the person sees it and says so
        expect(first).to_contain_text("the strike cannot be read, is not positive or too large")
        columns.get_by_role("combobox", name="Strikes", exact=True).select_option("1000")
        expect(first).to_contain_text("all can be used")
        columns.get_by_role("textbox", name="Multiplier", exact=True).fill("0")
        expect(page.get_by_text("The multiplier is a whole number from 1 to 100 000.").first).to_be_visible()
        for name, value in (("Kind", "index"), ("Exercise", "no"), ("Trading calendar", "MARROWICK")):
            columns.get_by_role("combobox", name=name, exact=True).select_option(value)
        for name, value in (("Multiplier", "50"), ("Smallest price step", "0.05"), ("Interest rate a year", "0.021")):
            columns.get_by_role("textbox", name=name, exact=True).fill(value)
        page.get_by_label("Name for this mapping").fill("quay archive")
        page.get_by_role("button", name="Keep").click()
        self.told("Kept as quay archive.")
        self.assertEqual(self.serious_faults(), [])

        load.click()
        report = page.get_by_role("region", name="Report")
        expect(report).to_contain_text("4 sessions new")
        report.get_by_role("link", name="QUAY").click()
        expect(page.get_by_role("region", name="Coverage by day")).to_be_visible()
        expect(page.get_by_role("region", name="Quality")).to_contain_text("Missing")
        self.assertEqual(self.serious_faults(), [])

        # after a restart all is there
        self.stop("web", signal.SIGKILL)
        self.start_web()
        page.reload()
        expect(page.get_by_role("region", name="Coverage by day")).to_be_visible()

        # a range goes out as a file
        with page.expect_download() as caught:
            page.get_by_role("button", name="Write to a file").click()
        frame = pd.read_parquet(caught.value.path())
        self.assertEqual(set(frame["underlying"]), {"QUAY"})

        # and out of the data, and back
        page.get_by_role("button", name="Take out").click()
        expect(page.get_by_role("status").filter(has_text="were taken out")).to_be_visible()
        expect(page.get_by_text("Nothing of it is current.")).to_be_visible()
        page.get_by_role("button", name="Undo").click()
        expect(page.get_by_role("region", name="Coverage by day")).to_be_visible()

        page.get_by_role("link", name=re.compile("quay.csv.gz")).click()
        page.get_by_role("button", name="Take back what it brought").click()
        expect(page.get_by_text("4 sessions were taken back.")).to_be_visible()

    def test_facts_beside_the_chains(self) -> None:
        """Dividends from a file, corrected as it is read; looked at; terms changed from a day on; all taken back."""
        page = self.page
        (self.folder / "paid.csv").write_text("day;what is paid\n13.03.2026;0,55\n14.09.2026;0,60\n15.09.2026;soon\n")
        self.addCleanup(lambda: Underlying.objects.filter(symbol="PIER").delete())
        self.sign_in("/data")
        page.get_by_label("File of market data").set_input_files(self.folder / "paid.csv")
        page.get_by_label("What the file holds").select_option("dividends")
        columns = page.get_by_role("region", name="Columns")
        columns.get_by_role("combobox", name="Date or time").select_option("day")
        columns.get_by_role("combobox", name="Amount").select_option("what is paid")
        columns.get_by_role("combobox", name="Dates").select_option("day first")
        columns.get_by_role("combobox", name="Decimals").select_option(",")
        columns.get_by_label("Everything is on").fill("pier")
        first = page.get_by_role("region", name="First rows")
        expect(first).to_contain_text("amount 0.55")
        expect(first).to_contain_text("1 × a number cannot be read")
        columns.get_by_role("combobox", name="Trading calendar").select_option("MARROWICK")
        page.get_by_role("button", name="Load it").click()
        report = page.get_by_role("region", name="Report")
        expect(report).to_contain_text("2 new")
        report.get_by_role("link", name="PIER").click()
        beside = page.get_by_role("region", name="Beside the chains")
        beside.get_by_role("button", name="2 dividends").click()
        expect(beside.get_by_role("table", name="dividends")).to_contain_text("14 Sep 2026")
        beside.get_by_role("button", name="Take out").first.click()
        expect(beside.get_by_role("button", name="1 dividend", exact=True)).to_be_visible()
        self.assertEqual(self.serious_faults(), [])

        terms_ = page.get_by_role("region", name="Terms")
        terms_.get_by_role("button", name="Change terms").click()
        terms_.get_by_label("From", exact=True).fill("2026-05-04")
        terms_.get_by_label("Multiplier").fill("10")
        terms_.get_by_role("button", name="Change", exact=True).click()
        expect(terms_).to_contain_text("From 4 May 2026: multiplier 10, American, settled at the close")
        terms_.get_by_role("button", name="Take out").click()
        expect(terms_).not_to_contain_text("From 4 May 2026")

        page.get_by_role("link", name="paid.csv").click()
        page.get_by_role("button", name="Take back what it brought").click()
        self.told("Taken back")
        self.open("/data/PIER")
        expect(beside).to_contain_text("nothing yet")

    def test_a_calendar_of_ones_own(self) -> None:
        page = self.page
        self.sign_in("/data")
        place = page.get_by_role("region", name="Calendars of your own")
        # what comes above it pushes it down while it arrives
        expect(page.get_by_role("region", name="Underlyings")).to_contain_text("MK30")
        place.get_by_role("button", name="Write one").click()
        window = page.get_by_role("dialog")
        window.get_by_label("Name, capitals").fill("skerry")
        window.get_by_label("Closed on").fill("2026-12-25, 2026-12-28")
        window.get_by_label("Closes early on").fill("2026-12-24 19:00")
        window.get_by_role("button", name="Write it down").click()
        expect(window).to_contain_text("2026-12-24 cannot close at 19:00")
        window.get_by_label("Closes early on").fill("2026-12-24 13:00")
        window.get_by_role("button", name="Write it down").click()
        expect(place).to_contain_text("09:00–17:30 Europe/Lisbon, 2 holidays")
        place.get_by_role("button", name="Change").click()
        self.assertEqual(self.serious_faults(), [])
        window.get_by_role("button", name="Take out").click()
        expect(place).not_to_contain_text("SKERRY")
        page.get_by_role("button", name="Undo").click()
        expect(place).to_contain_text("SKERRY")
        place.get_by_role("button", name="Change").click()
        window.get_by_role("button", name="Take out").click()
        expect(place).not_to_contain_text("SKERRY")
