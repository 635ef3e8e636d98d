"""How long a position is held, how often it was adjusted, and how long its nearest leg has to go."""

import numpy as np

from strell_core.measures.declaration import Declaration
from strell_core.measures.frames import Stretch
from strell_core.measures.measure import Params, PositionMeasure, Series, measures

DAYS = Declaration(
    id="days_held_so_far", usual=("at least", 5), section="measure", title="Days held", sentence="days held", params=(),
    explains="Calendar days since the first fill, exchange-local dates.", example="days held", words=("age", "holding period"), scope="position",
    clock="snapshot", unit="days", grid=1,
)  # fmt: skip
SESSIONS = Declaration(
    id="sessions_held", usual=("at least", 5), section="measure", title="Sessions held", sentence="sessions held", params=(),
    explains="Sessions of the calendar since that of the first fill: 0 on its day.", example="sessions held",
    words=("age", "holding period"), scope="position", clock="snapshot", unit="sessions", grid=1,
)  # fmt: skip
LEFT = Declaration(
    id="days_to_expiration", section="measure", title="Days to the nearest expiration", sentence="days to the nearest expiration", params=(),
    explains="Calendar days to the nearest expiration that is still held. Unvalued when only the underlying itself is left.",
    example="days to the nearest expiration", words=("DTE",), scope="position", clock="snapshot", unit="days", grid=1,
)  # fmt: skip
ADJUSTED = Declaration(
    id="adjustments_made", usual=("at least", 2), section="measure", title="Adjustments made", sentence="the adjustments made", params=(),
    explains="How often the trade was adjusted, each hedge with the underlying counted, those that were refused or lapsed not.",
    example="the adjustments made", words=("number of adjustments", "rolls", "how often"), scope="position", clock="snapshot", grid=1,
)  # fmt: skip


def days(stretch: Stretch, params: Params) -> Series:
    return (stretch.ordinal - stretch.opened_on.toordinal()).astype(np.float64)


def sessions(stretch: Stretch, params: Params) -> Series:
    ordinals = np.array([date.toordinal() for date in stretch.calendar.dates])
    made: Series = (np.searchsorted(ordinals, stretch.ordinal, side="right") - 1).astype(np.float64)
    return made - float(np.searchsorted(ordinals, stretch.opened_on.toordinal(), side="right") - 1)


def left(stretch: Stretch, params: Params) -> Series:
    nearest = min((leg.contract.expiration for leg in stretch.legs if not leg.contract.is_unit), default=None)
    if nearest is None:
        return np.full(len(stretch.ordinal), np.nan)
    return (nearest.toordinal() - stretch.ordinal).astype(np.float64)


def adjusted(stretch: Stretch, params: Params) -> Series:
    return np.full(len(stretch.ordinal), float(stretch.adjustments))


for _declaration, _series in ((DAYS, days), (SESSIONS, sessions), (LEFT, left), (ADJUSTED, adjusted)):
    measures.register(PositionMeasure(_declaration, _series))
