"""Session chains written out as tables: one row a quote, in CSV (RFC 4180) or Parquet."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet

from strell_core.formats.intake.mapping import osi_symbol
from strell_core.market.calendars import SessionCalendar
from strell_core.market.chains import SessionChain
from strell_core.market.instruments import ContractKey, Underlying, thousandths

SCHEMA = pa.schema(
    [
        ("at", pa.string()), ("underlying", pa.string()), ("symbol", pa.string()), ("expiration", pa.string()),
        ("right", pa.string()), ("strike", pa.float64()), ("bid", pa.float64()), ("ask", pa.float64()),
        ("volume", pa.int32()), ("open_interest", pa.int32()), ("iv", pa.float64()), ("spot", pa.float64()),
    ]
)  # fmt: skip
"""``at`` is exchange-local time with its offset (ISO 8601); prices in points; ``iv`` a year, empty without."""


def table(chain: SessionChain, terms: Underlying, calendar: SessionCalendar) -> pa.Table:
    """Every contract at every snapshot at which it was quoted."""
    quoted = (chain.ask >= 0) | (chain.bid >= 0)
    snapshot, row = np.nonzero(quoted.T)  # by time, then by contract
    quantum = float(terms.quantum)
    at = np.array([calendar.local(int(t)).isoformat() for t in chain.times], object)[snapshot]
    contracts = chain.contracts
    names = np.array([_symbol(chain.symbol, c) for c in contracts], object)[row]
    iv = chain.iv[row, snapshot]
    bid, ask = chain.bid[row, snapshot], chain.ask[row, snapshot]
    return pa.table(
        {
            "at": at.tolist(), "underlying": [chain.symbol] * len(row), "symbol": names.tolist(),
            "expiration": np.array([c.expiration.isoformat() for c in contracts], object)[row].tolist(),
            "right": np.array([c.right for c in contracts], object)[row].tolist(),
            "strike": np.array([float(c.strike) for c in contracts])[row],
            "bid": pa.array(np.round(bid * quantum, 4), mask=bid < 0), "ask": pa.array(np.round(ask * quantum, 4), mask=ask < 0),
            "volume": chain.volume[row], "open_interest": chain.open_interest[row],
            "iv": pa.array(np.round(iv / 10_000, 4), mask=iv == 0), "spot": np.round(chain.spot[snapshot] / 100, 2),
        },
        schema=SCHEMA,
    )  # fmt: skip


def _symbol(root: str, contract: ContractKey) -> str | None:
    try:
        return osi_symbol(root, contract.expiration, contract.right, thousandths(contract.strike))
    except ValueError:
        return None


def write(path: Path, tables: Iterable[pa.Table], kind: str) -> int:
    """Write tables one after the other; rows written. ``kind`` is ``csv`` or ``parquet``."""
    count = 0
    if kind == "parquet":
        with pyarrow.parquet.ParquetWriter(path, SCHEMA, compression="zstd") as out:
            for each in tables:
                out.write_table(each)
                count += each.num_rows
        return count
    with pyarrow.csv.CSVWriter(path, SCHEMA, write_options=pyarrow.csv.WriteOptions(quoting_style="needed")) as out:
        for each in tables:
            out.write_table(each)
            count += each.num_rows
    return count
