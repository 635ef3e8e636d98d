"""Relative strength index (J. W. Wilder, 1978), computed by TA-Lib."""

import talib

from strell_core.measures.bars import BARS, Bars, Indicator
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.measure import Params, Series, measures

DECLARATION = Declaration(
    id="rsi", usual=("below", 30), section="measure", title="RSI", sentence="RSI over {sessions} {bars}",
    params=(Param("sessions", "integer", "Length", 14, 2, 100), BARS),
    explains="Relative strength index of closes, Wilder's smoothing. 0 to 100; common practice calls "
    "below 30 oversold and above 70 overbought. Uses completed sessions or bars only.",
    example="Only if RSI over 14 sessions is below 30.0.", words=("momentum", "oversold", "overbought"),
    grid=0.01, warm_up="unvalued until one more session than its length is known", needs=("daily closes",),
)  # fmt: skip


def series(bars: Bars, params: Params) -> Series:
    values: Series = talib.RSI(bars.close, timeperiod=params["sessions"])
    return values


measures.register(Indicator(DECLARATION, series))
