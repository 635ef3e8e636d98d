"""Session chains written out as tables: one row a quote, in CSV (RFC 4180) or Parquet."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet

from strell_core.formats.intake.mapping import osi_symbol
from strell_core.formats.intake.rows import PRICE_SCALE
from strell_core.market.calendars import SessionCalendar
from strell_core.market.chains import SessionChain
from strell_core.market.extras import REAL, Extras, told
from strell_core.market.instruments import ContractKey, Underlying, thousandths

NOTHING: Extras = {}
SCHEMA = pa.schema(
    [
        ("at", pa.string()), ("underlying", pa.string()), ("symbol", pa.string()), ("expiration", pa.string()),
        ("right", pa.string()), ("strike", pa.float64()), ("bid", pa.float64()), ("ask", pa.float64()),
        ("volume", pa.int32()), ("open_interest", pa.int32()), ("iv", pa.float64()), ("spot", pa.float64()),
        ("last", pa.float64()), ("bid_size", pa.int32()), ("ask_size", pa.int32()),
        *((f"given_{name}", pa.float32()) for name in REAL),
    ]
)  # fmt: skip
"""``at`` is exchange-local time with its offset (ISO 8601); prices in points; ``iv`` a year, empty without. What a
file told beside its quotes follows as it was told, empty where it was not."""


def table(chain: SessionChain, terms: Underlying, calendar: SessionCalendar, extras: Extras = NOTHING) -> pa.Table:
    """Every contract at every snapshot at which it was quoted, or something else was told of it."""
    quoted = (chain.ask >= 0) | (chain.bid >= 0) | told(extras, *chain.bid.shape)
    snapshot, row = np.nonzero(quoted.T)  # by time, then by contract
    quantum = float(terms.quantum)
    at = np.array([calendar.local(int(t)).isoformat() for t in chain.times], object)[snapshot]
    contracts = chain.contracts
    names = np.array([_symbol(chain.symbol, c) for c in contracts], object)[row]
    iv = chain.iv[row, snapshot]
    bid, ask = chain.bid[row, snapshot], chain.ask[row, snapshot]

    def whole(name: str, otherwise: Any = None) -> Any:
        known = extras.get(name)
        if known is None:
            return pa.nulls(len(row), SCHEMA.field(name).type) if otherwise is None else otherwise[row]
        values = known[row, snapshot]
        return pa.array(np.round(values / PRICE_SCALE, 4) if name == "last" else values, mask=values < 0)

    given = {
        f"given_{name}": pa.array(extras[name][row, snapshot], from_pandas=True) if name in extras
        else pa.nulls(len(row), pa.float32())
        for name in REAL
    }  # fmt: skip
    return pa.table(
        {
            "at": at.tolist(), "underlying": [chain.symbol] * len(row), "symbol": names.tolist(),
            "expiration": np.array([c.expiration.isoformat() for c in contracts], object)[row].tolist(),
            "right": np.array([c.right for c in contracts], object)[row].tolist(),
            "strike": np.array([float(c.strike) for c in contracts])[row],
            "bid": pa.array(np.round(bid * quantum, 4), mask=bid < 0), "ask": pa.array(np.round(ask * quantum, 4), mask=ask < 0),
            "volume": whole("volume", chain.volume), "open_interest": whole("open_interest", chain.open_interest),
            "iv": pa.array(np.round(iv / 10_000, 4), mask=iv == 0), "spot": np.round(chain.spot[snapshot] / 100, 2),
            "last": whole("last"), "bid_size": whole("bid_size"), "ask_size": whole("ask_size"), **given,
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
