"""Leaving a number of days before the nearest expiration."""

import datetime as dt

from strell_core.measures.declaration import Declaration, Param, minutes
from strell_core.measures.frames import Params, Stretch, Truths, Values
from strell_core.strategy import compiled
from strell_core.strategy.compiled import Numbers
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


def _leaving_day(stretch: Stretch, params: Params) -> int:
    if stretch.nearest is None:
        return 0
    return stretch.calendar.on_or_before(stretch.nearest - dt.timedelta(days=params["days"])).toordinal()


def test(stretch: Stretch, params: Params) -> Truths:
    return stretch.from_day(_leaving_day(stretch, params), minutes(params["time"]))


def first(stretch: Stretch, params: Params, since: int) -> int:
    return stretch.first_from_day(_leaving_day(stretch, params), minutes(params["time"]), since)


def values(stretch: Stretch, params: Params, i: int) -> Values:
    left = 0 if stretch.nearest is None else stretch.nearest.toordinal() - int(stretch.ordinal[i])
    return {"left": left, "days": params["days"], "time": params["time"]}


def numbers(params: Params) -> Numbers:
    return Numbers(compiled.BEFORE_EXPIRATION, params["days"], minutes(params["time"]))


exits.register(Exit(DECLARATION, "other", test, values, first=first, numbers=numbers))
