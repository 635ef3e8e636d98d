"""Distance of the last close from its simple moving average."""

from collections.abc import Mapping
from typing import Any

import talib

from strell_core.market.daily import DailyHistory
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.measure import MarketMeasure, Series, measures

DECLARATION = Declaration(
    id="average_gap", usual=("above", 0), section="measure", title="Distance from the moving average",
    sentence="the close's distance from its average over {sessions|session|sessions}",
    params=(Param("sessions", "integer", "Sessions", 50, 2, 250),),
    explains="Last close against the simple moving average of closes, in percent of the average: above 0 "
    "means above the average. Uses completed sessions only.",
    example="Only if the close's distance from its average over 50 sessions is above 0.0 %.",
    words=("SMA", "trend", "moving average"), unit="%", grid=0.01,
    warm_up="unvalued until its length is known", needs=("daily closes",),
)  # fmt: skip


def series(history: DailyHistory, params: Mapping[str, Any]) -> Series:
    average = talib.SMA(history.close.astype(float), timeperiod=params["sessions"])
    values: Series = 100 * (history.close / average - 1)
    return values


measures.register(MarketMeasure(DECLARATION, series))
