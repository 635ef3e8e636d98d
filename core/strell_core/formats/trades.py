"""Trades of a run as CSV (RFC 4180): one row a leg."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from typing import Any

from strell_core.formats.cells import marked

COLUMNS = (
    "trade", "opened", "closed", "lots", "leg", "expiration", "right", "strike", "contracts", "open_price",
    "close_price", "closed_by", "trade_premium", "trade_pnl", "trade_costs", "exit_sentence", "exit_reason",
)  # fmt: skip


def to_csv(rows: Sequence[dict[str, Any]]) -> str:
    """Rows with :data:`COLUMNS` as CSV text, texts that a spreadsheet would run defused."""
    out = io.StringIO(newline="")
    writer = csv.DictWriter(out, COLUMNS, lineterminator="\r\n")
    writer.writeheader()
    for row in rows:
        writer.writerow({key: marked(value) for key, value in row.items()})
    return out.getvalue()
