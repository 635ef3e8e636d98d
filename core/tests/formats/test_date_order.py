"""Dates that can be read two ways: the whole file decides, or nobody does."""

from __future__ import annotations

import dataclasses
import datetime as dt
import tempfile
import unittest
from pathlib import Path

from strell_core.formats.intake.date_order import fit_of, order_problems, settled
from strell_core.formats.intake.mapping import UNSURE, Mapping, guess_dates
from strell_core.formats.intake.tables import sample
from strell_core.market.calendars import marrowick

HEAD = "quote_date,underlying,expiration,strike,type,bid,ask,underlying_price"


def written(days: list[str], expirations: list[str], strikes: int = 5) -> Path:
    rows = [
        f"{day},PLLM,{until},{80 + k},{side},1.00,1.10,82.00"
        for day in days
        for until in expirations
        for k in range(strikes)
        for side in "CP"
    ]
    path = Path(tempfile.mkdtemp()) / "chains.csv"
    path.write_text("\n".join([HEAD, *rows]) + "\n")
    return path


def american(*dates: dt.date) -> list[str]:
    return [f"{date:%m/%d/%Y}" for date in dates]


MARCH = dt.date(2024, 3, 1)


class DateOrderTest(unittest.TestCase):
    def found(self, path: Path) -> str:
        return settled(path, sample(path).mapping).date_format

    def test_one_expiration_decides_for_the_whole_file(self) -> None:
        late = written(american(MARCH), [*american(*[MARCH + dt.timedelta(days=5)] * 9), "03/15/2024"])
        self.assertEqual(sample(late).mapping.date_format, UNSURE)
        self.assertEqual(self.found(late), "month first", "it stands far below the sample")

    def test_a_day_without_a_session_decides(self) -> None:
        # 4 May 2026 is a Monday, 5 April a Sunday
        path = written(["04/05/2026"], ["05/06/2026"])
        self.assertEqual(fit_of(path, sample(path).mapping).wrong, {"day first": 0, "month first": 10})
        self.assertEqual(self.found(path), "day first")
        self.assertEqual(self.found(written(["01/03/2024"], ["08/03/2024"])), UNSURE, "3 January or 1 March: both fit")

    def test_a_holiday_of_the_exchange_decides(self) -> None:
        path = written(["04/03/2026"], ["12/05/2026"])  # 3 April 2026 is Good Friday
        mapping = dataclasses.replace(sample(path).mapping, date_format="month first")
        self.assertEqual(order_problems(path, mapping), [])
        ((place, text),) = order_problems(path, mapping, marrowick().__contains__)
        self.assertEqual(place, "date_format")
        self.assertIn("Read month first, 10 of 10 rows have no such date", text)

    def test_expirations_before_the_quote_decide(self) -> None:
        self.assertEqual(self.found(written(["05/03/2026"], ["03/04/2026", "01/05/2026"])), "day first")

    def test_where_both_fit_nothing_is_guessed(self) -> None:
        path = written(american(MARCH), american(MARCH + dt.timedelta(days=7), MARCH + dt.timedelta(days=40)))
        guessed = settled(path, sample(path).mapping)
        self.assertEqual(guessed.date_format, UNSURE)
        ((place, text),) = order_problems(path, guessed)
        self.assertEqual((place, text), ("date_format", "03/01/2024 can be read two ways: say whether the day or the month comes first."))  # fmt: skip
        for said in ("day first", "month first"):
            self.assertEqual(order_problems(path, dataclasses.replace(guessed, date_format=said)), [])

    def test_a_wrong_order_is_refused_before_a_row_is_read(self) -> None:
        path = written(american(MARCH), american(*(MARCH + dt.timedelta(days=n) for n in (5, 7, 14, 21, 28, 35, 49))))
        mapping = dataclasses.replace(sample(path).mapping, date_format="day first")
        ((_, text),) = order_problems(path, mapping)
        self.assertIn("Choose month first", text)

    def test_a_few_bad_rows_decide_nothing(self) -> None:
        path = written(
            american(MARCH), [*american(*(MARCH + dt.timedelta(days=n) for n in (5, 14, 21, 28, 49))), "soon"]
        )
        self.assertEqual(self.found(path), "month first")

    def test_other_formats_and_files_that_cannot_be_read_yet_are_left_alone(self) -> None:
        path = written(["2024-03-01"], ["2024-03-08"])
        self.assertEqual(self.found(path), "iso")
        self.assertEqual(order_problems(path, sample(path).mapping), [])
        bare = Mapping(columns={"bid": "bid"}, date_format=UNSURE)
        self.assertEqual(settled(path, bare), bare)
        self.assertEqual(guess_dates(["01/02/2024"]), UNSURE)
        self.assertEqual([place for place, _ in bare.problems() if place == "date_format"], ["date_format"])
