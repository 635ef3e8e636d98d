"""IV rank: where today's IV stands between the lowest and highest of a window (common practice)."""

from collections.abc import Mapping
from typing import Any

import numpy as np

from strell_core.market.daily import DailyHistory
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.measure import MarketMeasure, Series, measures

DECLARATION = Declaration(
    id="iv_rank", usual=("above", 30), section="measure", title="IV rank", sentence="IV rank over {sessions|session|sessions}",
    params=(Param("sessions", "integer", "Sessions", 252, 5, 756),),
    explains="100 × (IV - lowest) ÷ (highest - lowest) over the last sessions including the latest completed "
    "one. A day's value is its at-the-money IV. Unvalued when the window is not full, has a day without a "
    "value, or its highest equals its lowest.",
    example="Only if IV rank over 252 sessions is above 30.0.", words=("percentile", "rank"),
    grid=0.01, warm_up="unvalued until its window is full", needs=("chain",),
)  # fmt: skip


def series(history: DailyHistory, params: Mapping[str, Any]) -> Series:
    n, iv = params["sessions"], history.atm_iv
    out = np.full(len(iv), np.nan)
    if len(iv) >= n:
        windows = np.lib.stride_tricks.sliding_window_view(iv, n)
        low, high = windows.min(axis=1), windows.max(axis=1)
        width = np.where(high > low, high - low, np.nan)
        out[n - 1 :] = 100 * (iv[n - 1 :] - low) / width
    return out


measures.register(MarketMeasure(DECLARATION, series))
