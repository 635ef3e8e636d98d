"""Files of dated facts: recognised, read, set aside; iCalendar by RFC 5545."""

from __future__ import annotations

import csv
import datetime as dt
import gzip
import random
import tempfile
import unittest
from pathlib import Path
from zoneinfo import ZoneInfo

import icalendar
import pandas as pd
from hypothesis import given, settings
from hypothesis import strategies as st

from strell_core.formats.intake.dated import (
    CALENDAR,
    REASONS,
    Record,
    Records,
    calendar_problems,
    days_of,
    is_calendar,
    ratio_of,
    records,
)
from strell_core.formats.intake.mapping import KINDS, Mapping, guess
from strell_core.formats.intake.tables import IntakeError, sample
from strell_core.market.calendars import ZoneDays
from tests.formats.damage import damaged

LISBON = ZoneInfo("Europe/Lisbon")


def zone(subject: str) -> ZoneDays:
    return ZoneDays(LISBON)


class Folder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="strell-")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def file(self, text: str | bytes, name: str = "file.csv") -> Path:
        path = self.folder / name
        path.write_bytes(text.encode() if isinstance(text, str) else text)
        return path

    def read(self, path: Path, **options: object) -> Records:
        mapping = sample(path).mapping if not is_calendar(path) else Mapping(kind="events")
        for name, value in options.items():
            mapping = Mapping(**{**mapping.plain(), name: value})
        blocks = list(records(path, mapping, zone))
        return Records(
            [row for block in blocks for row in block.rows], [r for block in blocks for r in block.rejects],
            blocks[-1].read, blocks[-1].share,
        )  # fmt: skip


class FilesTest(Folder):
    def test_daily_bars(self) -> None:
        path = self.file(
            "Date,Symbol,Open,High,Low,Close,Volume\n2026-11-03,PLLM,84,85.5,83,85,1200\n2026-11-04,PLLM,85,84,83,84.5,\n"
            "2026-11-05,PLLM,85,86,83,x,5\n2026-11-06,PLLM,85,86,83,-1,5\n2026-11-09,,85,86,83,84,5\n"
            "2026-11-03,PLLM,1,1,1,1,1\n,,,,,,\n"
        )
        found = self.read(path)
        self.assertEqual(
            found.rows,
            [
                Record(
                    "PLLM", dt.date(2026, 11, 3), None,
                    {"open": 84.0, "high": 85.5, "low": 83.0, "close": 85.0, "volume": 1200}, 2,
                )
            ],
        )  # fmt: skip
        self.assertEqual(
            [(r.line, r.reason) for r in found.rejects],
            [(3, "bar"), (4, "unreadable"), (5, "negative"), (6, "underlying"), (7, "duplicate")],
        )

    def test_bars_within_the_session_packed(self) -> None:
        path = self.file(
            gzip.compress(b"datetime,close\n2026-11-03 09:05,84.1\n2026-11-03 09:10,84.2\n"), "bars.csv.gz"
        )
        found = self.read(path, underlying="PLLM", zone="Europe/Lisbon")
        first = dt.datetime(2026, 11, 3, 9, 5, tzinfo=LISBON)
        self.assertEqual([r.at for r in found.rows], [int(first.timestamp()), int(first.timestamp()) + 300])
        self.assertEqual(found.rows[0].values["high"], 84.1)

    def test_decimal_commas_and_day_first(self) -> None:
        found = self.read(self.file("ex-date;ticker;amount\n13.03.2026;OSTL;0,55\n"))
        self.assertEqual((found.rows[0].date, found.rows[0].values), (dt.date(2026, 3, 13), {"amount": 0.55}))

    def test_splits_rates_and_a_series(self) -> None:
        splits = self.read(self.file("date,symbol,ratio\n2026-03-02,PLLM,3:2\n2026-04-01,PLLM,soon\n"))
        self.assertEqual(splits.rows[0].values, {"ratio": 1.5})
        self.assertEqual(splits.rejects[0].reason, "ratio")
        rates = self.read(
            self.file("date,currency,tenor,rate\n2026-03-02,EUR,3M,2.1\n2026-03-02,EUR,1Y,2.4\n2026-03-02,EUR,9X,2\n")
        )
        self.assertEqual([r.values["days"] for r in rates.rows], [91, 365])
        self.assertEqual(rates.rejects[0].reason, "days")
        series = self.read(self.file("date,value\n2026-03-02,-3.5\n"), underlying="MOOD")
        self.assertEqual((series.rows[0].subject, series.rows[0].values), ("MOOD", {"value": -3.5}))

    def test_parquet_by_pandas(self) -> None:
        frame = pd.DataFrame({"date": [dt.date(2026, 3, 2), dt.date(2026, 3, 3)], "close": [84.0, 85.25]})
        frame.to_parquet(self.folder / "bars.parquet")
        found = self.read(self.folder / "bars.parquet", underlying="PLLM")
        self.assertEqual(
            [(r.date, r.values["close"]) for r in found.rows],
            [(dt.date(2026, 3, 2), 84.0), (dt.date(2026, 3, 3), 85.25)],
        )

    def test_a_calendar(self) -> None:
        """Written by the icalendar package, folded lines, zones and all-day events as RFC 5545 has them."""
        made = icalendar.Calendar()
        made.add("prodid", "-//test//")
        made.add("version", "2.0")
        for title, start, place in (
            ("Report of the third quarter, " + "long " * 30, dt.datetime(2026, 11, 5, 17, 40, tzinfo=LISBON), "PLLM"),
            ("General meeting", dt.date(2026, 5, 6), "PLLM"), ("Nowhere", dt.date(2026, 5, 7), ""),
        ):  # fmt: skip
            event = icalendar.Event()
            event.add("summary", title)
            event.add("dtstart", start)
            event.add("location", place)
            made.add_component(event)
        path = self.file(made.to_ical(), "events.ics")
        self.assertTrue(is_calendar(path))
        found = self.read(path)
        self.assertEqual([r.date for r in found.rows], [dt.date(2026, 11, 5), dt.date(2026, 5, 6)])
        self.assertEqual(found.rows[0].at, int(dt.datetime(2026, 11, 5, 17, 40, tzinfo=LISBON).timestamp()))
        self.assertIsNone(found.rows[1].at)
        self.assertEqual([r.reason for r in found.rejects], ["underlying"])
        named = self.read(path, underlying="OSTL")
        self.assertEqual({r.subject for r in named.rows}, {"OSTL"})
        self.assertEqual([place for place, _ in calendar_problems(Mapping(kind="events", zone="Moon"))], ["zone"])

    def test_a_calendar_that_is_none(self) -> None:
        path = self.file(CALENDAR + b"\r\nBEGIN:VEVENT\r\nDTSTART:when\r\n", "bad.ics")
        with self.assertRaises(IntakeError):
            self.read(path)

    @settings(max_examples=60, deadline=None)
    @given(st.binary(max_size=300))
    def test_no_file_crashes_it(self, tail: bytes) -> None:
        path = self.file(b"date,close\n2026-11-03,84\n" + tail, "odd.csv")
        try:
            found = self.read(path, underlying="PLLM")
        except IntakeError:
            return
        self.assertTrue(all(r.reason in {*REASONS, "fields"} for r in found.rejects))
        for row in found.rows:
            self.assertGreater(row.values["close"], 0)


class MutationTest(Folder):
    def test_a_thousand_damaged_files_give_no_wrong_fact(self) -> None:
        """Whatever is taken of a damaged file is what Python's csv module reads in that line."""
        random_ = random.Random(11)
        days = [dt.date(2026, 1, 5) + dt.timedelta(n) for n in range(40)]
        bars = ["date,symbol,open,high,low,close"] + [
            f"{day},PLLM,{80 + n}.25,{82 + n}.50,{79 + n}.00,{81 + n}.75" for n, day in enumerate(days)
        ]
        dividends = ["ex_date,symbol,amount"] + [f"{day},OSTL,0.{10 + n}" for n, day in enumerate(days)]
        taken = 0
        for number in range(1000):
            good, last = (bars, "close") if number % 2 else (dividends, "amount")
            mapping = sample(self.file("\n".join(good))).mapping
            data = damaged(random_, good)
            path = self.file(data)
            try:
                found = [row for block in records(path, mapping, zone) for row in block.rows]
            except IntakeError:
                continue
            text = gzip.decompress(data) if data[:2] == b"\x1f\x8b" else data
            lines = text.replace(b"\r\n", b"\n").split(b"\n")
            for row in found:
                line = lines[row.line - 1].decode("utf-8", "replace")
                cells = [cell.strip() for cell in next(csv.reader([line]))]
                self.assertEqual(len(cells), good[0].count(",") + 1, f"file {number}: {line}")
                self.assertEqual(
                    (row.date.isoformat(), row.subject), (cells[0], cells[1].upper()), f"file {number}: {line}"
                )
                self.assertEqual(row.values[last], float(cells[-1]), f"file {number}: {line}")
                taken += 1
        self.assertGreater(taken, 20_000, "most rows of most files are good")

    def test_hundreds_of_damaged_calendars_give_no_wrong_event(self) -> None:
        """Bytes cut off, changed and taken out: what is read is an event of the calendar, or nothing is."""
        random_ = random.Random(13)
        titles = [f"Report {n}" for n in range(12)]
        events = "".join(
            f"BEGIN:VEVENT\r\nUID:{n}\r\nSUMMARY:{title}\r\nDTSTART;VALUE=DATE:202601{n + 10}\r\nLOCATION:PLLM\r\nEND:VEVENT\r\n"
            for n, title in enumerate(titles)
        )
        whole = f"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//t//\r\n{events}END:VCALENDAR\r\n".encode()
        taken = 0
        for _ in range(400):
            data = bytearray(whole)
            for _ in range(random_.randint(1, 3)):
                at = random_.randrange(20, len(data))
                how = random_.randrange(3)
                if how == 0:
                    data[at] = random_.randrange(256)
                elif how == 1:
                    del data[at : at + random_.randint(1, 30)]
                else:
                    data[at:at] = bytes(random_.randrange(32, 127) for _ in range(random_.randint(1, 5)))
            try:
                found = self.read(self.file(bytes(data), "odd.ics"))
            except IntakeError:
                continue
            self.assertLessEqual({r.reason for r in found.rejects}, set(REASONS))
            taken += sum(row.values["event"] in titles and row.date.year == 2026 for row in found.rows)
        self.assertGreater(taken, 2_000, "most events of most calendars are good")


class RecognisingTest(unittest.TestCase):
    def test_what_a_file_holds(self) -> None:
        for wanted, names in (
            ("chains", ["date", "strike", "expiration", "right", "bid", "ask"]),
            ("bars", ["date", "open", "high", "low", "close"]), ("dividends", ["ex_date", "symbol", "amount"]),
            ("splits", ["date", "symbol", "split ratio"]), ("rates", ["date", "tenor", "rate"]),
            ("events", ["date", "symbol", "event"]), ("series", ["date", "value"]),
        ):  # fmt: skip
            self.assertEqual(guess(names, [["2026-11-04"] * len(names)]).kind, wanted, names)

    def test_what_is_missing_is_said(self) -> None:
        for name, kind in KINDS.items():
            places = {place for place, _ in Mapping(kind=name).problems()}
            self.assertLessEqual({*kind.needed, "underlying"}, places, name)
        self.assertEqual(Mapping(kind="gossip").problems()[0][0], "kind")
        self.assertIn("strike", {place for place, _ in Mapping({"strike": "x"}, kind="bars").problems()})

    def test_ratios_and_terms(self) -> None:
        self.assertEqual([ratio_of(text) for text in ("2", "2:1", "1/10", "3 for 2")], [2.0, 2.0, 0.1, 1.5])
        self.assertEqual([days_of(text) for text in ("30", "2W", "3 months", "1y")], [30, 14, 91, 365])
        for bad in ("", "0", "x:1", "1:0"):
            with self.assertRaises(ValueError):
                ratio_of(bad)
        for bad in ("", "0", "3Q", "-1"):
            with self.assertRaises(ValueError):
                days_of(bad)
