"""Which options were traded: puts against calls."""

from collections.abc import Mapping
from typing import Any

import numpy as np

from strell_core.market.daily import DailyHistory
from strell_core.measures.declaration import Declaration
from strell_core.measures.measure import MarketMeasure, Series, measures

DECLARATION = Declaration(
    id="put_call_volume", usual=("above", 1), section="measure", title="Puts traded against calls", sentence="the last session's volume of puts against calls",
    params=(),
    explains="Contracts of all puts that were traded in the last completed session, divided by those of all calls (common practice). Unvalued "
    "without calls, and where no volume is told. Its average over sessions is a statistic of it.",
    example="the last session's volume of puts against calls", words=("put/call ratio", "sentiment", "volume"), grid=0.001, needs=("volume",),
)  # fmt: skip


def series(history: DailyHistory, params: Mapping[str, Any]) -> Series:
    puts, calls = history.puts_traded, history.calls_traded
    made: Series = puts / np.where(calls > 0, calls, np.nan)
    return made


measures.register(MarketMeasure(DECLARATION, series))
