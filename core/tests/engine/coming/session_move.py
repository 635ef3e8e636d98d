"""A measure within the session: how far the underlying has moved since the session's first snapshot."""

from collections.abc import Mapping
from typing import Any

from strell_core.market.timeline import Timeline
from strell_core.measures.declaration import Declaration
from strell_core.measures.measure import MarketMeasure, Series

DECLARATION = Declaration(
    id="session_move", section="measure", title="Move since the open", sentence="the move since the session's open",
    params=(), explains="Percent of the price at the session's first snapshot, at every snapshot.",
    example="Only if the move since the session's open is above 1 %.", clock="snapshot", unit="%", grid=0.01,
    needs=("spot",),
)  # fmt: skip


def series(timeline: Timeline, params: Mapping[str, Any]) -> Series:
    first = timeline.spot[timeline.first[:-1]][timeline.session_of]
    values: Series = 100 * (timeline.spot / first - 1)
    return values


MEASURE = MarketMeasure(DECLARATION, series)
