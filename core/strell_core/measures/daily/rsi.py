"""Relative strength index (J. W. Wilder, 1978), computed by TA-Lib."""

from collections.abc import Mapping
from typing import Any

import talib

from strell_core.market.timeline import DailyHistory
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.measure import Measure, Series, measures

DECLARATION = Declaration(
    id="rsi", section="measure", title="RSI", sentence="RSI over {sessions|session|sessions}",
    params=(Param("sessions", "integer", "Sessions", 14, 2, 100),),
    explains="Relative strength index of daily closes, Wilder's smoothing. 0 to 100; common practice calls "
    "below 30 oversold and above 70 overbought. Uses completed sessions only.",
    example="Only if RSI over 14 sessions is below 30.", words=("momentum", "oversold", "overbought"),
    grid=0.01, warm_up="unvalued until one more session than its length is known", needs=("daily closes",),
)  # fmt: skip


def series(history: DailyHistory, params: Mapping[str, Any]) -> Series:
    values: Series = talib.RSI(history.close.astype(float), timeperiod=params["sessions"])
    return values


measures.register(Measure(DECLARATION, series))
