"""Leaving a number of days before the nearest expiration."""

import datetime as dt

import numpy as np

from strell_core.measures.declaration import Declaration, Param, minutes
from strell_core.strategy.kinds import Exit, Params, Stretch, Truths, Values, exits

DECLARATION = Declaration(
    id="before_expiration", section="leave", title="Days before expiration",
    sentence="{days|day|days} before expiration at {time}.",
    params=(
        Param("days", "integer", "Days before", 1, 0, 60),
        Param("time", "time", "Time of day", "15:45"),
    ),
    explains="From the last session at least that many calendar days before the nearest expiration, at or after "
    "the time of day; later sessions count from their first snapshot. Acts without prices.",
    example="1 day before expiration at 15:45.", words=("DTE", "time exit"), scope="position",
    tells=('left',), when_true="{left} days before expiration", when_false="{left} days before expiration, leaves at {days}",
)  # fmt: skip


def _leaving_day(stretch: Stretch, params: Params) -> int:
    nearest = min(leg.contract.expiration for leg in stretch.legs)
    return stretch.calendar.on_or_before(nearest - dt.timedelta(days=params["days"])).toordinal()


def test(stretch: Stretch, params: Params) -> Truths:
    day = _leaving_day(stretch, params)
    due = (stretch.ordinal > day) | ((stretch.ordinal == day) & (stretch.minute >= minutes(params["time"])))
    return stretch.judged(due, np.ones(len(due), np.bool_))


def values(stretch: Stretch, params: Params, i: int) -> Values:
    nearest = min(leg.contract.expiration for leg in stretch.legs)
    return {"left": nearest.toordinal() - int(stretch.ordinal[i]), "days": params["days"], "time": params["time"]}


exits.register(Exit(DECLARATION, "other", test, values))
