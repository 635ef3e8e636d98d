"""Trades as CSV, read back by other readers."""

from __future__ import annotations

import csv
import io
import unittest

import pandas as pd

from strell_core.formats.trades import COLUMNS, to_csv

ROW = {
    "trade": 3, "opened": "2026-10-05T15:50", "closed": "2026-10-06T15:50", "lots": 2, "leg": 1,
    "expiration": "2026-10-16", "right": "put", "strike": 3040, "contracts": -2, "open_price": 6.0,
    "close_price": 2.9, "closed_by": "order", "trade_premium": 600.0, "trade_pnl": 306.8, "trade_costs": 3.2,
    "exit_sentence": 6, "exit_reason": 'P/L "half", reached',
}  # fmt: skip


class TradesCsvTest(unittest.TestCase):
    def test_read_back_by_pandas_and_the_csv_module(self) -> None:
        """RFC 4180: quotes doubled, lines end with CR LF."""
        text = to_csv([ROW, {**ROW, "leg": 2, "exit_reason": "two\nlines, one field"}])
        self.assertTrue(text.startswith(",".join(COLUMNS) + "\r\n"))
        frame = pd.read_csv(io.StringIO(text))
        self.assertEqual(frame.exit_reason.tolist(), ['P/L "half", reached', "two\nlines, one field"])
        self.assertEqual(frame.trade_pnl.tolist(), [306.8, 306.8])
        rows = list(csv.DictReader(io.StringIO(text, newline="")))
        self.assertEqual([row["strike"] for row in rows], ["3040", "3040"])

    def test_texts_that_a_spreadsheet_would_run_are_defused(self) -> None:
        row = next(csv.DictReader(io.StringIO(to_csv([{**ROW, "exit_reason": "=1+1"}]))))
        self.assertEqual(row["exit_reason"], "'=1+1")
        self.assertEqual(row["contracts"], "-2")
