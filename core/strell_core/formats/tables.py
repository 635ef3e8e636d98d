"""Tables on their way out: CSV (RFC 4180), JSON and Parquet of the same rows."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable, Sequence
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq

from strell_core.formats.cells import marked

Rows = Sequence[dict[str, Any]]
TRADES = (
    "trade", "underlying", "opened", "closed", "lots", "leg", "expiration", "right", "strike", "contracts", "open_price",
    "close_price", "closed_by", "trade_premium", "trade_pnl", "trade_costs", "exit_sentence", "exit_reason",
)  # fmt: skip
"""Columns of a run's trades, a row a leg."""


def to_csv(rows: Rows, columns: Sequence[str]) -> bytes:
    """With a head and CR LF, texts that a spreadsheet would run defused."""
    out = io.StringIO(newline="")
    writer = csv.DictWriter(out, columns, lineterminator="\r\n")
    writer.writeheader()
    for row in rows:
        writer.writerow({key: marked(value) for key, value in row.items()})
    return out.getvalue().encode()


def to_json(rows: Rows, columns: Sequence[str]) -> bytes:
    """A list of objects."""
    return json.dumps([{name: row[name] for name in columns} for row in rows], ensure_ascii=False).encode()


def to_parquet(rows: Rows, columns: Sequence[str]) -> bytes:
    """One row group; a column in which nothing has a value is one of nulls."""
    out = io.BytesIO()
    pq.write_table(pa.table({name: [row[name] for row in rows] for name in columns}), out)
    return out.getvalue()


WRITERS: dict[str, tuple[str, Callable[[Rows, Sequence[str]], bytes]]] = {
    "csv": ("text/csv; charset=utf-8", to_csv),
    "json": ("application/json", to_json),
    "parquet": ("application/vnd.apache.parquet", to_parquet),
}
"""Media type and writer by a file's ending."""
