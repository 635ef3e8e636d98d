"""Leaving a number of days before the nearest expiration."""

import datetime as dt

import numpy as np

from strell_core.measures.declaration import Declaration, Param, minutes
from strell_core.measures.frames import Params, Stretch, Truths, Values
from strell_core.strategy.kinds import Exit, exits

DECLARATION = Declaration(
    id="before_expiration", section="leave", title="Days before expiration",
    sentence="{days|day|days} before expiration at {time}.",
    params=(
        Param("days", "integer", "Days before", 1, 0, 60),
        Param("time", "time", "Time of day", "15:45"),
    ),
    explains="From the last session at least that many calendar days before the nearest expiration, at or after "
    "the time of day; later sessions count from their first snapshot. A time beyond the end of a shortened session acts before "
    "its last snapshot, in a session with one snapshot on it. Acts without prices, and "
    "at once when only the underlying itself is left.",
    example="1 day before expiration at 15:45.", words=("DTE", "time exit"), scope="position",
    tells=('left',), when_true="days to expiration: {left}", when_false="days to expiration: {left}, leaves at {days}",
)  # fmt: skip


def _nearest(stretch: Stretch) -> dt.date | None:
    """The nearest expiration that is still held; ``None``: only the underlying itself is left."""
    return min((leg.contract.expiration for leg in stretch.legs if not leg.contract.is_unit), default=None)


def _leaving_day(stretch: Stretch, params: Params) -> int:
    nearest = _nearest(stretch)
    if nearest is None:
        return 0
    return stretch.calendar.on_or_before(nearest - dt.timedelta(days=params["days"])).toordinal()


def test(stretch: Stretch, params: Params) -> Truths:
    day = _leaving_day(stretch, params)
    due = (stretch.ordinal > day) | ((stretch.ordinal == day) & stretch.reached(minutes(params["time"])))
    return stretch.judged(due, np.ones(len(due), np.bool_))


def values(stretch: Stretch, params: Params, i: int) -> Values:
    nearest = _nearest(stretch)
    left = 0 if nearest is None else nearest.toordinal() - int(stretch.ordinal[i])
    return {"left": left, "days": params["days"], "time": params["time"]}


exits.register(Exit(DECLARATION, "other", test, values))
