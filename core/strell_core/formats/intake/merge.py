"""Adding a file's rows to a session that is there already."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from strell_core.formats.intake.rows import NONE, PRICE_SCALE, row_type
from strell_core.market.chains import SessionChain
from strell_core.market.extras import Extras, told
from strell_core.market.instruments import Underlying, thousandths

BEHIND = 1 << 62
"""Lines of rows that were there before: a file's rows go before them."""


Rows = npt.NDArray[Any]


def joined(first: Rows, second: Rows) -> Rows:
    """Rows one behind the other, with the fields that either has."""
    told = [*(first.dtype.names or ()), *(second.dtype.names or ())]
    out = np.zeros(len(first) + len(second), row_type(told))
    for part, begin in ((first, 0), (second, len(first))):
        for name in out.dtype.names or ():
            here = part.dtype.names is not None and name in part.dtype.names
            missing = np.nan if out.dtype[name].kind == "f" else NONE
            out[name][begin : begin + len(part)] = part[name] if here else missing
    return out


def rows_of(chain: SessionChain, terms: Underlying, extras: Extras) -> Rows:
    """A chain's quotes as rows (see :func:`rows.row_type`), with what was told beside them."""
    row, column = np.nonzero((chain.ask >= 0) | told(extras, *chain.bid.shape))
    out = np.zeros(len(row), row_type(extras))
    tick = round(float(terms.quantum) * PRICE_SCALE)
    contracts = chain.contracts
    out["session"], out["at"] = chain.date.toordinal(), chain.times[column]
    out["expiration"] = np.array([c.expiration.toordinal() for c in contracts], np.int32)[row]
    out["right"] = np.array([c.right == "put" for c in contracts], np.int8)[row]
    out["strike"] = np.array([thousandths(c.strike) for c in contracts], np.int32)[row]
    for side, quoted in (("bid", chain.bid[row, column]), ("ask", chain.ask[row, column])):
        out[side] = np.where(quoted < 0, NONE, quoted * tick)
    out["volume"], out["open_interest"] = chain.volume[row], chain.open_interest[row]
    out["spot"] = chain.spot[column]
    out["line"] = BEHIND + np.arange(len(row))
    for name, values in extras.items():
        out[name] = values[row, column]
    return out
