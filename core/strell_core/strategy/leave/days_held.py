"""Leaving after a number of days."""

from strell_core.measures.declaration import Declaration, Param, minutes
from strell_core.measures.frames import Params, Stretch, Truths, Values
from strell_core.strategy import compiled
from strell_core.strategy.compiled import Numbers
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


def _leaving_day(stretch: Stretch, params: Params) -> int:
    return stretch.opened_on.toordinal() + int(params["days"])


def test(stretch: Stretch, params: Params) -> Truths:
    return stretch.from_day(_leaving_day(stretch, params), minutes(params["time"]))


def first(stretch: Stretch, params: Params, since: int) -> int:
    return stretch.first_from_day(_leaving_day(stretch, params), minutes(params["time"]), since)


def values(stretch: Stretch, params: Params, i: int) -> Values:
    return {"held": int(stretch.ordinal[i]) - stretch.opened_on.toordinal(), "days": params["days"]}


def numbers(params: Params) -> Numbers:
    return Numbers(compiled.DAYS_HELD, params["days"], minutes(params["time"]))


exits.register(Exit(DECLARATION, "other", test, values, first=first, numbers=numbers))
