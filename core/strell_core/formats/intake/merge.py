"""Adding a file's rows to a session that is there already."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from strell_core.formats.intake.rows import NONE, PRICE_SCALE, ROW
from strell_core.market.chains import SessionChain
from strell_core.market.instruments import Underlying, thousandths

BEHIND = 1 << 62
"""Lines of rows that were there before: a file's rows go before them."""


def rows_of(chain: SessionChain, terms: Underlying) -> npt.NDArray[Any]:
    """A chain's quotes as rows (see :data:`rows.ROW`)."""
    row, column = np.nonzero(chain.ask >= 0)
    out = np.zeros(len(row), ROW)
    tick = round(float(terms.quantum) * PRICE_SCALE)
    contracts = chain.contracts
    out["session"], out["at"] = chain.date.toordinal(), chain.times[column]
    out["expiration"] = np.array([c.expiration.toordinal() for c in contracts], np.int32)[row]
    out["right"] = np.array([c.right == "put" for c in contracts], np.int8)[row]
    out["strike"] = np.array([thousandths(c.strike) for c in contracts], np.int32)[row]
    out["bid"], out["ask"] = chain.bid[row, column] * tick, chain.ask[row, column] * tick
    out["volume"], out["open_interest"] = chain.volume[row], chain.open_interest[row]
    out["spot"] = chain.spot[column]
    out["line"] = BEHIND + np.arange(len(row))
    for name in ("last", "bid_size", "ask_size", "iv"):
        out[name] = NONE
    return out
