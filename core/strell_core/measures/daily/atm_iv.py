"""At-the-money implied volatility as a level."""

from collections.abc import Mapping
from typing import Any

from strell_core.market.daily import DailyHistory
from strell_core.measures.declaration import Declaration
from strell_core.measures.measure import MarketMeasure, Series, measures

DECLARATION = Declaration(
    id="atm_iv", usual=("above", 14), section="measure", title="At-the-money IV", sentence="at-the-money IV",
    params=(),
    explains="Implied volatility in percent of the strike nearest to the forward, in the expiration nearest "
    "to 30 days, at the last snapshot of the session before. Unvalued when that strike had no IV.",
    example="Only if at-the-money IV is above 14.0 %.", words=("implied volatility", "level"),
    unit="%", grid=0.01, needs=("chain",),
)  # fmt: skip


def series(history: DailyHistory, params: Mapping[str, Any]) -> Series:
    return history.atm_iv


measures.register(MarketMeasure(DECLARATION, series))
