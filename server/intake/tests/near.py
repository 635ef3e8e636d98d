"""What of the demo's sessions the tests write into files: little, and enough to be traded."""

from __future__ import annotations

import dataclasses

import numpy as np
import pandas as pd

from strell_core.formats.intake import export
from strell_core.market.calendars import marrowick
from strell_core.market.chains import SessionChain
from strell_core.market.instruments import Underlying


def near_the_money(chain: SessionChain, underlying: Underlying) -> pd.DataFrame:
    """Three snapshots of a session's contracts near in price and time, as a table."""
    calendar = marrowick()
    times = [i for i, at in enumerate(chain.times) if f"{calendar.local(int(at)):%H:%M}" in ("11:00", "15:45", "15:50")]
    spot = float(chain.spot[0]) / 100
    kept = [
        i for i, c in enumerate(chain.contracts)
        if (c.expiration - chain.date).days < 20 and abs(float(c.strike) / spot - 1) < 0.08
    ]  # fmt: skip
    cells = np.ix_(kept, times)
    part = dataclasses.replace(
        chain, times=chain.times[times], spot=chain.spot[times], forward=chain.forward[:, times],
        contracts=tuple(chain.contracts[i] for i in kept), bid=chain.bid[cells], ask=chain.ask[cells],
        iv=chain.iv[cells], open_interest=chain.open_interest[kept], volume=chain.volume[kept],
    )  # fmt: skip
    return export.table(part, underlying, calendar).to_pandas().drop(columns=["symbol", "iv"])
