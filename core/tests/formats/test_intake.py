"""Reading chain files: columns recognised, every row used or set aside with its reason, nothing read wrong."""

from __future__ import annotations

import csv
import dataclasses
import datetime as dt
import gzip
import io
import random
import tempfile
import unittest
from decimal import Decimal
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
import pandas as pd
import pyarrow.parquet
import zstandard

from strell_core.formats.intake import export, merge
from strell_core.formats.intake.mapping import Mapping, MappingError, guess, osi_parts, osi_symbol
from strell_core.formats.intake.rows import blocks, row_type
from strell_core.formats.intake.sessions import Built, build
from strell_core.formats.intake.stage import Stage
from strell_core.formats.intake.tables import IntakeError, sample
from strell_core.market.calendars import ZoneDays, marrowick
from strell_core.market.chains import SessionChain, encode
from strell_core.market.dividends import Dividend
from strell_core.market.extras import encode_extras
from strell_core.market.instruments import ContractKey, Underlying
from strell_core.scenario.generator import MK30
from tests.demo import SHORT, chains
from tests.formats.damage import damaged

CALENDAR = marrowick()
PELLAM = Underlying("PLLM", "Pellam Robotics", "EUR", 100, Decimal("0.01"), "MARROWICK", 0.021, american=True)
HEAD = "quote time,underlying,expiration,strike,type,bid,ask,volume,open interest,underlying price"
LINES = [
    "2026-11-04 15:45,PLLM,2026-11-20,82.5,C,2.20,2.30,10,100,84.10",
    "2026-11-04 15:45,PLLM,2026-11-20,82.5,P,0.60,0.70,4,80,84.10",
    "2026-11-04 15:45,PLLM,2026-11-20,85,C,0.90,1.00,3,70,84.10",
    "2026-11-04 15:45,PLLM,2026-11-20,85,P,1.80,1.90,0,60,84.10",
]


class Folder(unittest.TestCase):
    def setUp(self) -> None:
        made = tempfile.TemporaryDirectory(prefix="strell-")
        self.addCleanup(made.cleanup)
        self.folder = Path(made.name)

    def file(self, text: str | bytes, name: str = "a.csv") -> Path:
        path = self.folder / name
        path.write_bytes(text.encode() if isinstance(text, str) else text)
        return path

    def read(self, path: Path, mapping: Mapping | None = None) -> tuple[Any, list[Any]]:
        """Rows of the one underlying, and what was set aside."""
        rows, rejects = [], []
        for block in blocks(
            path, mapping or lisbon(sample(path).mapping), lambda _: ZoneDays(ZoneInfo("Europe/Lisbon"))
        ):
            rows += list(block.rows.values())
            rejects += block.rejects
        return (np.concatenate(rows) if rows else []), rejects


def lisbon(mapping: Mapping) -> Mapping:
    return dataclasses.replace(mapping, zone="Europe/Lisbon")


class RecognitionTest(Folder):
    def test_names_of_the_trade_are_known(self) -> None:
        found = sample(self.file("\n".join([HEAD, *LINES]))).mapping
        self.assertEqual(found.columns["at"], "quote time")
        self.assertEqual(
            {role: found.columns[role] for role in ("expiration", "strike", "right", "open_interest", "spot")},
            {"expiration": "expiration", "strike": "strike", "right": "type", "open_interest": "open interest",
             "spot": "underlying price"},
        )  # fmt: skip
        self.assertEqual(found.problems(), [])

    def test_content_decides_where_names_do_not(self) -> None:
        names = ["d", "what", "side?", "bid", "ask"]
        found = guess(names, [["2026-11-04", "PLLM  261120C00082500", "p", "1", "2"]] * 3)
        self.assertEqual((found.columns["symbol"], found.columns["right"]), ("what", "side?"))
        self.assertEqual([place for place, _ in found.problems()], ["at"], "the date's column must be named")

    def test_forms_of_dates_decimals_and_strikes(self) -> None:
        names = ["date", "underlying", "expiration", "strike", "right", "bid", "ask", "spot"]
        found = guess(names, [["04.11.2026", "PLLM", "20.11.2026", "82500", "C", "1,20", "1,30", "84,1"]] * 2, ";")
        self.assertEqual((found.date_format, found.decimal, found.strike_scale), ("day first", ",", 1000))
        for texts, wanted in (
            (["11/20/2026"], "month first"), (["20261120"], "compact"), (["1793807100000"], "epoch"), (["2026-11-20"], "iso"),
        ):  # fmt: skip
            rows = [[text, "PLLM", text, "82", "C", "1", "2", "84"] for text in texts]
            self.assertEqual(guess(names, rows).date_format, wanted)

    def test_what_is_missing_is_said(self) -> None:
        with self.assertRaises(MappingError) as caught:
            Mapping.parse({"columns": {"bid": "b"}, "zone": "Nowhere", "decimal": ",", "day_time": "25:00"})
        places = {place for place, _ in caught.exception.problems}
        self.assertEqual(
            places, {"at", "ask", "expiration", "strike", "right", "underlying", "zone", "decimal", "day_time"}
        )
        self.assertEqual(
            Mapping.parse(lisbon(sample(self.file("\n".join([HEAD, *LINES]))).mapping).plain()).zone, "Europe/Lisbon"
        )

    def test_a_few_bad_rows_do_not_change_what_a_column_is(self) -> None:
        dates = [["17.11.2026", "C"]] * 9 + [["=cmd()", "X"]]
        found = guess(
            ["when", "what", "strike", "expiration", "bid", "ask"], [[*row, "80", row[0], "1", "2"] for row in dates]
        )
        self.assertEqual((found.date_format, found.columns["right"]), ("day first", "what"))
        mostly = guess(["date", "strike"], [["=cmd()", "1"]] * 5 + [["17.11.2026", "1"]] * 5)
        self.assertEqual(mostly.date_format, "iso", "half of them are no few")


class SymbologyTest(unittest.TestCase):
    """The OCC/OSI 21-character symbology: root in six, yymmdd, C or P, strike in thousandths in eight (from memory)."""

    def test_there_and_back(self) -> None:
        self.assertEqual(osi_symbol("PLLM", dt.date(2026, 11, 20), "call", 82_500), "PLLM  261120C00082500")
        self.assertEqual(osi_parts("PLLM  261120C00082500"), ("PLLM", dt.date(2026, 11, 20), "call", 82_500))
        self.assertEqual(osi_parts("PLLM261120P00005000"), ("PLLM", dt.date(2026, 11, 20), "put", 5_000))

    def test_what_is_none(self) -> None:
        for text in ("", "PLLM", "PLLM  261320C00082500", "PLLM  261120X00082500", "TOOLONGX261120C00082500"):
            self.assertIsNone(osi_parts(text), text)
        with self.assertRaises(ValueError):
            osi_symbol("MUCHTOOLONG", dt.date(2026, 11, 20), "call", 82_500)


class RowsTest(Folder):
    def test_every_bad_row_is_set_aside_with_its_reason(self) -> None:
        bad = {
            "2026-11-04 15:45,PLLM,2026-11-20,82.5,C,2.40,2.30,,,84.10": "crossed",
            "2026-11-04 15:45,PLLM,2026-11-20,82.5,C,2.40,0,,,84.10": "crossed",
            "2026-11-04 15:45,PLLM,2026-11-20,82.5,C,-1,2.30,,,84.10": "negative",
            "2026-11-04 15:45,PLLM,2026-11-20,82.5,C,x,2.30,,,84.10": "unreadable",
            "2026-11-04 15:45,PLLM,2026-11-20,82.5,C,=1+1,2.30,,,84.10": "unreadable",
            "2026-11-04 15:45,PLLM,2026-11-20,82.5,C,1e9,2e9,,,84.10": "range",
            "2026-11-04 15:45,PLLM,2026-11-20,82.5,C,inf,inf,,,84.10": "unreadable",
            "2026-11-04 15:45,PLLM,2026-11-20,-82.5,C,2.20,2.30,,,84.10": "strike",
            "2026-11-04 15:45,PLLM,2026-11-20,,C,2.20,2.30,,,84.10": "strike",
            "2026-11-04 15:45,PLLM,2026-11-20,82.5,X,2.20,2.30,,,84.10": "right",
            "2026-11-04 15:45,PLLM,2026-11-31,82.5,C,2.20,2.30,,,84.10": "expiration",
            "2026-11-04 15:45,PLLM,2026-11-03,82.5,C,2.20,2.30,,,84.10": "expired",
            "2026-11-04 25:45,PLLM,2026-11-20,82.5,C,2.20,2.30,,,84.10": "at",
            ",PLLM,2026-11-20,82.5,C,2.20,2.30,,,84.10": "at",
            "2026-11-04 15:45,,2026-11-20,82.5,C,2.20,2.30,,,84.10": "underlying",
            "2026-11-04 15:45,PLLM,2026-11-20,82.5,C,2.20": "fields",
            "2026-11-04 15:45,PLLM,2026-11-20,82.5,C,2.20,2.30,,,84.10,more": "fields",
        }
        text = "\n".join([HEAD, LINES[0], *bad, "", LINES[1], ""])
        rows, rejects = self.read(self.file(text))
        self.assertEqual([reject.reason for reject in rejects], list(bad.values()))
        self.assertEqual([reject.line for reject in rejects], list(range(3, 3 + len(bad))))
        self.assertEqual(rows["line"].tolist(), [2, 4 + len(bad)], "an empty line is nothing, and counts")

    def test_missing_bids_and_quotes(self) -> None:
        lines = [
            LINES[0].replace("2.20,2.30", ",2.30"),
            LINES[1].replace("0.60,0.70", ","),
            LINES[2].replace("0.90,1.00", "0,0"),
        ]
        rows, rejects = self.read(self.file("\n".join([HEAD, *lines])))
        self.assertEqual(rejects, [])
        self.assertEqual(rows[["bid", "ask"]].tolist(), [(0, 23_000), (-1, -1), (-1, -1)])

    def test_forms_of_the_same_row(self) -> None:
        plain, _ = self.read(self.file("\n".join([HEAD, LINES[0]])))
        other = "date;time;strike;what;bid;ask;spot\n04.11.2026;15:45:00;82500;PLLM  261120C00082500;220;230;84,10\n"
        mapping = Mapping(
            {"at": "date", "time": "time", "symbol": "what", "bid": "bid", "ask": "ask", "spot": "spot"},
            "Europe/Lisbon", "day first", ",", ";", price_scale=100,
        )  # fmt: skip
        found, _ = self.read(self.file(other), mapping)
        names = ["session", "at", "expiration", "right", "strike", "bid", "ask", "spot"]
        self.assertEqual(found[names].tolist(), plain[names].tolist())

    def test_fields_in_quotes(self) -> None:
        lines = [",".join(f'"{cell}"' for cell in line.split(",")) for line in [HEAD, *LINES]]
        plain, _ = self.read(self.file("\n".join([HEAD, *LINES])))
        found, rejects = self.read(self.file("\n".join(lines)))
        self.assertEqual((found.tolist(), rejects), (plain.tolist(), []))

    def test_summer_and_winter_time(self) -> None:
        lines = [LINES[0].replace("2026-11-04", day) for day in ("2026-10-23", "2026-10-26")]
        rows, _ = self.read(self.file("\n".join([HEAD, *lines])))
        self.assertEqual([dt.datetime.fromtimestamp(at, dt.UTC).hour for at in rows["at"].tolist()], [14, 15])

    def test_compressed_files_and_parquet_hold_the_same(self) -> None:
        text = "\n".join([HEAD, *LINES]).encode()
        plain, _ = self.read(self.file(text))
        for name, data in (("a.gz", gzip.compress(text)), ("a.zst", zstandard.compress(text))):
            found, _ = self.read(self.file(data, name))
            self.assertEqual(found.tolist(), plain.tolist())
        frame = pd.read_csv(io.BytesIO(text))
        frame["quote time"] = pd.to_datetime(frame["quote time"])
        frame["expiration"] = pd.to_datetime(frame["expiration"]).dt.date
        frame.to_parquet(self.folder / "a.parquet")
        found, _ = self.read(self.folder / "a.parquet")
        names = [name for name in plain.dtype.names if name != "line"]
        self.assertEqual(found[names].tolist(), plain[names].tolist())

    def test_files_that_cannot_be_read_say_so(self) -> None:
        for data, words in (
            (b"", "empty"), (b"PK\x03\x04 some zip", "zip archive"), (b"\xff\xfe" + HEAD.encode("utf-16-le"), "UTF-8"),
            (b"PAR1 but no more", "Parquet"), (HEAD.encode(), "no rows"), (gzip.compress(b"x" * 99)[:20], "unpacked"),
        ):  # fmt: skip
            with self.assertRaisesRegex(IntakeError, words):
                sample(self.file(data))

    def test_a_column_that_is_no_number_from_some_row_on(self) -> None:
        """Numbers are read as such block by block; where one is none the rest is read as text, nothing twice."""
        lines = [
            f"2026-11-04 15:45,PLLM,2026-11-20,{1 + n % 50_000},{'CP'[n // 50_000]},1.10,1.20,{n},5,84.10"
            for n in range(90_000)
        ]
        lines[5] += ",more"
        lines[80_000] = lines[80_000].replace("1.10", "1·10")
        lines[80_001] = lines[80_001].replace("1.10", " 1.10 ")
        lines[80_002] = lines[80_002].replace("1.10", "N/A").replace("1.20", "NULL")
        path = self.file("\n".join([HEAD, *lines]))
        self.assertGreater(path.stat().st_size, 4 << 20, "several blocks")
        rows, rejects = self.read(path)
        self.assertEqual([(r.line, r.reason) for r in rejects], [(7, "fields"), (80_002, "unreadable")])
        self.assertEqual(len(rows), 89_998)
        self.assertEqual(len(set(rows["line"].tolist())), 89_998, "each once")
        self.assertEqual(rows["volume"].tolist(), [n for n in range(90_000) if n not in (5, 80_000)])
        odd = rows[np.isin(rows["line"], [80_003, 80_004])]
        self.assertEqual(odd["bid"].tolist(), [11_000, -1])

    def test_more_snapshots_than_can_be_kept(self) -> None:
        lines = [
            f"2026-11-04 {9 + n // 240:02d}:{n % 240 // 4:02d}:{15 * (n % 4):02d}" + LINES[0][16:] for n in range(1600)
        ]
        rows, _ = self.read(self.file("\n".join([HEAD, *lines])))
        with self.assertRaisesRegex(IntakeError, "1600 snapshots.*Thin the file out"):
            build(rows, dt.date(2026, 11, 4), PELLAM, CALENDAR)

    def test_a_row_without_end_stops_the_reading(self) -> None:
        path = self.file(gzip.compress("\n".join([HEAD, *LINES]).encode() + b"\n" + b"7" * 40_000_000))
        with self.assertRaisesRegex(IntakeError, "longer than 4 MB|another number"):
            self.read(path)


class MutationTest(Folder):
    def test_a_thousand_damaged_files_give_no_wrong_row(self) -> None:
        """Whatever is taken of a damaged file is what Python's csv module reads in that line."""
        random_ = random.Random(7)
        good = [HEAD] + [
            f"2026-11-04 15:{m:02d},PLLM,2026-11-20,{k},{r},{b / 100:.2f},{(b + 10) / 100:.2f},{m},{k},84.10"
            for m in range(0, 60, 10) for k in range(80, 88) for r, b in (("C", 200 + m), ("P", 150 + m))
        ]  # fmt: skip
        mapping = lisbon(sample(self.file("\n".join(good))).mapping)
        taken = 0
        for number in range(1000):
            data = damaged(random_, good)
            path = self.file(data)
            try:
                rows, _ = self.read(path, mapping)
            except (IntakeError, MappingError):
                continue
            text = gzip.decompress(data) if data[:2] == b"\x1f\x8b" else data
            lines = text.replace(b"\r\n", b"\n").split(b"\n")
            for row in rows:
                line = lines[int(row["line"]) - 1].decode("utf-8", "replace")
                cells = next(csv.reader([line]))
                self.assertEqual(len(cells), 10, f"file {number}: {line}")
                self.assertAlmostEqual(float(cells[3]) * 1000, row["strike"], delta=0.51)
                self.assertEqual(_amount(cells[6]), row["ask"], f"file {number}: {line}")
                if row["ask"] > 0:
                    self.assertEqual(max(0, _amount(cells[5])), row["bid"], f"file {number}: {line}")
                self.assertEqual(cells[4].strip().lower()[0], "cp"[row["right"]])
                taken += 1
        self.assertGreater(taken, 20_000, "most rows of most files are good")


def _amount(text: str) -> int:
    try:
        value = float(text)
    except ValueError:
        return -1
    return -1 if value != value or value == 0 else round(value * 10_000)


class SessionTest(Folder):
    def build(self, lines: list[str], terms: Underlying = PELLAM, **more: Any) -> Built:
        rows, rejects = self.read(self.file("\n".join([HEAD, *lines])))
        self.assertEqual(rejects, [])
        return build(rows, dt.date.fromordinal(int(rows["session"][0])), terms, CALENDAR, **more)

    def test_rows_become_a_chain(self) -> None:
        made = self.build(LINES)
        chain = made.chain
        assert chain is not None
        self.assertEqual(
            [c.code for c in chain.contracts], [f"PLLM/2026-11-20/{r}/{k}" for r in ("call", "put") for k in (82.5, 85)]
        )
        self.assertEqual(chain.bid[:, 0].tolist(), [220, 90, 60, 180])
        self.assertEqual((chain.spot.tolist(), chain.settlement), ([8410], 8410))
        self.assertEqual(chain.open_interest.tolist(), [100, 70, 80, 60])
        self.assertTrue((chain.iv > 0).all())
        self.assertEqual(made.rejects, [])

    def test_what_a_session_sets_aside(self) -> None:
        late = LINES[2].replace("15:45", "17:45")
        night = LINES[2].replace("15:45", "03:00")
        odd = LINES[3].replace("1.80,1.90", "1.805,1.90")
        made = self.build([*LINES[:2], LINES[0], late, night, odd])
        self.assertEqual(made.rejects, [(4, "duplicate"), (6, "outside"), (7, "off tick")])
        self.assertEqual(made.findings["after the close"], 1)
        assert made.chain is not None
        self.assertEqual(len(made.chain.times), 2)

    def test_days_without_a_session_and_moved_expirations(self) -> None:
        sunday = self.build([line.replace("2026-11-04", "2026-11-08") for line in LINES])
        self.assertEqual((sunday.chain, {why for _, why in sunday.rejects}), (None, {"no session"}))
        saturday = self.build([line.replace("2026-11-20", "2026-11-21") for line in LINES])
        assert saturday.chain is not None
        self.assertEqual(saturday.chain.expirations, (dt.date(2026, 11, 20),))
        self.assertEqual(saturday.findings["expiration moved"], 4)

    def test_dates_without_a_time_are_the_close_or_what_is_said(self) -> None:
        lines = [line.replace("2026-11-04 15:45", "2026-11-04") for line in LINES]
        for given, clock in (("", "17:30"), ("15:45", "15:45")):
            chain = self.build(lines, day_time=given).chain
            assert chain is not None
            self.assertEqual(CALENDAR.local(int(chain.times[0])).strftime("%H:%M"), clock)

    def test_without_the_underlyings_price_parity_gives_it(self) -> None:
        made = self.build([line.rsplit(",", 1)[0] + "," for line in LINES], dataclasses.replace(PELLAM, american=False))
        assert made.chain is not None
        self.assertAlmostEqual(made.chain.spot[0] / 100, 84.1, delta=0.15)
        self.assertEqual(made.findings["spot by parity"], 1)

    def test_a_dividend_lowers_the_forward_not_the_volatility(self) -> None:
        """The forward comes from the quotes; a dividend the file's prices know of explains it."""
        made = self.build(LINES, dividends=[Dividend(dt.date(2026, 11, 11), 0.2)])
        plain = self.build(LINES)
        assert made.chain is not None and plain.chain is not None
        self.assertAlmostEqual(float(made.chain.forward[0, 0]), float(plain.chain.forward[0, 0]), delta=0.05)
        self.assertLess(np.abs(made.chain.iv.astype(int) - plain.chain.iv.astype(int)).max(), 150)

    def test_doubtful_quotes_are_counted(self) -> None:
        lines = [*LINES, LINES[2].replace(",85,C,0.90,1.00", ",90,C,3.00,3.10")]
        found = self.build(lines).findings
        self.assertEqual(found["vertical arbitrage"], 1)


class BesideTest(Folder):
    """Last prices, sizes, volatilities and Greeks as delivered: kept as told, compared with ours, written out again."""

    HEAD = HEAD + ",last,bid size,ask size,iv,delta,theta"
    MORE = [
        "2.25,12,30,0.1874,0.6891,-0.0612",
        "0.65,5,8,0.1881,-0.3109,-0.0498",
        ",20,1,0.1890,0.4333,-0.07",
        "-,7,9,,,",
    ]

    def text(self) -> str:
        lines = [f"{line},{more}" for line, more in zip(LINES, self.MORE, strict=True)]
        return "\n".join([self.HEAD, *lines]) + "\n"

    def built(self, path: Path) -> Built:
        mapping = lisbon(sample(path).mapping)
        rows, rejects = self.read(path, mapping)
        self.assertEqual(rejects, [])
        return build(rows, dt.date(2026, 11, 4), PELLAM, CALENDAR)

    def test_what_is_told_is_kept(self) -> None:
        made = self.built(self.file(self.text()))
        self.assertEqual(set(made.extras), {"last", "bid_size", "ask_size", "iv", "delta", "theta"})
        assert made.chain is not None
        order = [
            made.chain.contracts.index(ContractKey(dt.date(2026, 11, 20), r, k, "PLLM"))
            for k in (82.5, 85)
            for r in ("call", "put")
        ]
        self.assertEqual(made.extras["last"][order, 0].tolist(), [22_500, 6_500, -1, -1])
        self.assertEqual(made.extras["bid_size"][order, 0].tolist(), [12, 5, 20, 7])
        np.testing.assert_array_equal(made.extras["theta"][order, 0], np.float32([-0.0612, -0.0498, -0.07, np.nan]))
        self.assertNotIn("volume", made.extras, "one snapshot: the session's volume stands in the chain")

    def test_written_and_read_by_another_reader_it_is_the_same(self) -> None:
        made = self.built(self.file(self.text()))
        assert made.chain is not None
        for kind, read in (("csv", pd.read_csv), ("parquet", pd.read_parquet)):
            path = self.folder / f"again.{kind}"
            export.write(path, [export.table(made.chain, PELLAM, CALENDAR, made.extras)], kind)
            frame = read(path).set_index(["strike", "right"])
            first = frame.loc[(82.5, "put")]
            told = [first[name] for name in ("last", "bid_size", "ask_size", "volume", "open_interest")]
            self.assertEqual(told, [0.65, 5, 8, 4, 80])
            self.assertEqual(np.float32(first["given_delta"]), np.float32(-0.3109))
            self.assertTrue(np.isnan(frame.loc[(85, "put")]["given_iv"]))
            again = self.built(path)
            self.assertEqual(encode_extras(again.extras), encode_extras(made.extras))
            assert again.chain is not None
            self.assertEqual(encode(again.chain), encode(made.chain))

    def test_volatilities_far_from_ours_are_counted_in_either_unit(self) -> None:
        near = self.built(self.file(self.text()))
        self.assertNotIn("given volatility", near.findings)
        percent = self.text().replace("0.1874", "18.74").replace("0.1881", "18.81").replace("0.1890", "18.90")
        self.assertNotIn("given volatility", self.built(self.file(percent, "percent.csv")).findings)
        far = self.built(self.file(self.text().replace("0.1881", "0.41"), "far.csv"))
        self.assertEqual(far.findings["given volatility"], 1)

    def test_volume_that_grows_within_the_session_is_kept_by_snapshot(self) -> None:
        later = [line.replace("15:45", "15:50").replace(",10,100,", ",14,100,") for line in LINES]
        made = build(self.read(self.file("\n".join([HEAD, *LINES, *later])))[0], dt.date(2026, 11, 4), PELLAM, CALENDAR)
        self.assertEqual(set(made.extras), {"volume"})
        self.assertEqual(made.extras["volume"][0].tolist(), [10, 14])
        assert made.chain is not None
        self.assertEqual(int(made.chain.volume[0]), 14)
        rows = merge.rows_of(made.chain, PELLAM, made.extras)
        self.assertEqual(
            encode_extras(build(rows, dt.date(2026, 11, 4), PELLAM, CALENDAR).extras), encode_extras(made.extras)
        )

    def test_what_cannot_be_read_is_set_aside(self) -> None:
        rows, rejects = self.read(self.file(self.text().replace("-0.3109", "n/k")))
        self.assertEqual([(r.line, r.reason) for r in rejects], [(3, "unreadable")])
        self.assertEqual(len(rows), 3)


class RoundTripTest(Folder):
    """What is written by :mod:`export` is read back by us, and by pandas, which knows nothing of us."""

    chains: list[SessionChain]
    path: Path
    count: int
    found: dict[dt.date, SessionChain]

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        made = tempfile.TemporaryDirectory(prefix="strell-")
        cls.addClassCleanup(made.cleanup)
        cls.chains = list(chains(SHORT))[-2:]
        cls.path = Path(made.name) / "mk30.parquet"
        cls.count = export.write(cls.path, (export.table(chain, MK30, CALENDAR) for chain in cls.chains), "parquet")
        cls.found = cls.built(cls.path)

    @staticmethod
    def built(path: Path) -> dict[dt.date, SessionChain]:
        mapping = sample(path).mapping
        stage = Stage(path.parent / "stage", row_type(mapping.columns))
        stage.clear()
        for block in blocks(path, mapping, lambda _: CALENDAR):
            stage.add(block.rows)
        made = {date: build(stage.rows("MK30", date), date, MK30, CALENDAR).chain for _, date in stage.sessions()}
        return {date: chain for date, chain in made.items() if chain is not None}

    def test_generated_sessions_come_back(self) -> None:
        for chain in self.chains:
            mine = self.found[chain.date]
            usable = (chain.bid <= chain.ask) & (chain.ask > 0) & (chain.bid >= 0)
            rows = [chain.contracts.index(contract) for contract in mine.contracts]
            np.testing.assert_array_equal(np.where(usable, chain.bid, 0)[rows], np.where(usable[rows], mine.bid, 0))
            np.testing.assert_array_equal(np.where(usable, chain.ask, 0)[rows], np.where(usable[rows], mine.ask, 0))
            np.testing.assert_array_equal(chain.iv[rows], mine.iv, "volatilities are computed again, and the same")
            np.testing.assert_array_equal(chain.spot, mine.spot)
            np.testing.assert_array_equal(chain.open_interest[rows], mine.open_interest)

    def test_another_reader_gets_back_what_was_loaded(self) -> None:
        frame = pd.read_parquet(self.path)
        self.assertEqual(len(frame), self.count)
        chain = self.chains[0]
        first = frame[frame["at"].str[:10] == chain.date.isoformat()]
        self.assertAlmostEqual(first["bid"].sum(), chain.bid[chain.bid >= 0].sum() * 0.05, places=2)
        row = first.iloc[1234]
        contract = next(
            c
            for c in chain.contracts
            if (c.expiration.isoformat(), c.right, c.strike) == (row["expiration"], row["right"], row["strike"])
        )
        at = chain.times.tolist().index(int(dt.datetime.fromisoformat(row["at"]).timestamp()))
        self.assertAlmostEqual(row["ask"], chain.ask[chain.contracts.index(contract), at] * 0.05)
        self.assertEqual(osi_parts(row["symbol"])[2:], (contract.right, contract.strike * 1000))

    def test_csv_and_parquet_give_the_same_chains_whatever_the_blocks(self) -> None:
        path = self.folder / "mk30.csv"
        export.write(path, (export.table(chain, MK30, CALENDAR) for chain in self.chains), "csv")
        a, b = self.found, self.built(path)
        self.assertEqual({d: encode(c) for d, c in a.items()}, {d: encode(c) for d, c in b.items()})

    def test_rows_in_any_order_give_the_same_chains(self) -> None:
        frame = pyarrow.parquet.read_table(self.path).to_pandas().sample(frac=1.0, random_state=3)
        frame.to_parquet(self.folder / "mixed.parquet")
        a, b = self.found, self.built(self.folder / "mixed.parquet")
        self.assertEqual({d: encode(c) for d, c in a.items()}, {d: encode(c) for d, c in b.items()})
