"""Tables in each format, read back by other readers."""

from __future__ import annotations

import csv
import io
import json
import unittest

import pandas as pd

from strell_core.formats.tables import TRADES, WRITERS, to_csv

ROW = {
    "trade": 3, "underlying": "MK30", "opened": "2026-10-05T15:50", "closed": "2026-10-06T15:50", "lots": 2, "leg": 1,
    "expiration": "2026-10-16", "right": "put", "strike": 3040, "contracts": -2, "open_price": 6.0,
    "close_price": 2.9, "closed_by": "order", "trade_premium": 600.0, "trade_pnl": 306.8, "trade_costs": 3.2,
    "exit_sentence": 6, "exit_reason": 'P/L "half", reached',
}  # fmt: skip


class TablesTest(unittest.TestCase):
    def test_csv_is_read_back_by_pandas_and_the_csv_module(self) -> None:
        """RFC 4180: quotes doubled, lines end with CR LF."""
        text = to_csv([ROW, {**ROW, "leg": 2, "exit_reason": "two\nlines, one field"}], TRADES).decode()
        self.assertTrue(text.startswith(",".join(TRADES) + "\r\n"))
        frame = pd.read_csv(io.StringIO(text))
        self.assertEqual(frame.exit_reason.tolist(), ['P/L "half", reached', "two\nlines, one field"])
        self.assertEqual(frame.trade_pnl.tolist(), [306.8, 306.8])
        rows = list(csv.DictReader(io.StringIO(text, newline="")))
        self.assertEqual([row["strike"] for row in rows], ["3040", "3040"])

    def test_texts_that_a_spreadsheet_would_run_are_defused(self) -> None:
        row = next(csv.DictReader(io.StringIO(to_csv([{**ROW, "exit_reason": "=1+1"}], TRADES).decode())))
        self.assertEqual(row["exit_reason"], "'=1+1")
        self.assertEqual(row["contracts"], "-2")

    def test_every_format_holds_the_same(self) -> None:
        rows = [ROW, {**ROW, "trade": 4, "exit_sentence": None, "exit_reason": "verfügbar"}]
        read = {
            "csv": lambda data: pd.read_csv(io.BytesIO(data)).astype(object).where(lambda f: f.notna(), None).to_dict("records"),
            "json": json.loads,
            "parquet": lambda data: pd.read_parquet(io.BytesIO(data)).astype(object).where(lambda f: f.notna(), None).to_dict("records"),
        }  # fmt: skip
        for kind, (_, write) in WRITERS.items():
            with self.subTest(kind):
                self.assertEqual(read[kind](write(rows, TRADES)), rows)
                self.assertIsInstance(write([], TRADES), bytes)
        self.assertEqual(list(pd.read_parquet(io.BytesIO(WRITERS["parquet"][1]([], TRADES))).columns), list(TRADES))
