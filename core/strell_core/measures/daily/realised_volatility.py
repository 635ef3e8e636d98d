"""Realised volatility: annualised standard deviation of daily log returns (common practice)."""

from collections.abc import Mapping
from typing import Any

import numpy as np

from strell_core.market.daily import DailyHistory
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.measure import MarketMeasure, Series, measures

SESSIONS_A_YEAR = 252
DECLARATION = Declaration(
    id="realised_volatility", usual=("below", 18), section="measure", title="Realised volatility",
    sentence="realised volatility over {sessions|session|sessions}",
    params=(Param("sessions", "integer", "Sessions", 20, 2, 252),),
    explains="Standard deviation (n - 1) of the log returns of daily closes times √252, in percent. "
    "Uses completed sessions only.",
    example="Only if realised volatility over 20 sessions is below 18.0 %.",
    words=("historical volatility", "standard deviation"),
    unit="%", grid=0.01, warm_up="unvalued until one more session than its length is known",
    needs=("daily closes",),
)  # fmt: skip


def series(history: DailyHistory, params: Mapping[str, Any]) -> Series:
    n, count = params["sessions"], len(history.close)
    out = np.full(count, np.nan)
    if count > n:
        returns = np.diff(np.log(history.close))
        windows = np.lib.stride_tricks.sliding_window_view(returns, n)
        out[n:] = windows.std(axis=1, ddof=1) * np.sqrt(SESSIONS_A_YEAR) * 100
    return out


measures.register(MarketMeasure(DECLARATION, series))
