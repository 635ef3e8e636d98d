"""Leaving after a number of days."""

import numpy as np

from strell_core.measures.declaration import Declaration, Param, minutes
from strell_core.measures.frames import Params, Stretch, Truths, Values
from strell_core.strategy.kinds import Exit, exits

DECLARATION = Declaration(
    id="days_held", section="leave", title="Days held", sentence="After {days|day|days} at {time}.",
    params=(
        Param("days", "integer", "Days held", 5, 0, 365),
        Param("time", "time", "Time of day", "15:45"),
    ),
    explains="Calendar days since the first fill, at or after the time of day; later days count from their "
    "first snapshot. A time beyond the end of a shortened session acts before its last snapshot, in a session with "
    "one snapshot on it. Acts without prices.",
    example="After 5 days at 15:45.", words=("time exit", "holding period"), scope="position",
    tells=('held',), when_true="held {held} days", when_false="held {held} days, leaves after {days}",
)  # fmt: skip


def test(stretch: Stretch, params: Params) -> Truths:
    held = stretch.ordinal - stretch.opened_on.toordinal()
    due = (held > params["days"]) | ((held == params["days"]) & stretch.reached(minutes(params["time"])))
    return stretch.judged(due, np.ones(len(due), np.bool_))


def values(stretch: Stretch, params: Params, i: int) -> Values:
    return {"held": int(stretch.ordinal[i]) - stretch.opened_on.toordinal(), "days": params["days"]}


exits.register(Exit(DECLARATION, "other", test, values))
