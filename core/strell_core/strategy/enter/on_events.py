"""Looks on something that happens: a value of a series of one's own, the end of a trade."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Params
from strell_core.strategy.kinds import ScheduleRule, schedules
from strell_core.strategy.schedule import Schedule

SERIES = Declaration(
    id="on_series", section="enter", title="On a value of a series", sentence="On every new value of the series {series}.",
    params=(Param("series", "series", "Series", ""),),
    explains="A decision on the first snapshot on which a value of a series of one's own is known: at its own instant, or in the next session for "
    "one of a whole day. Several values between two snapshots are one decision, on the last of them. What the value says is asked by conditions.",
    example="On every new value of the series “SIGNAL”.", words=("signal", "schedule", "event", "alert", "when", "external"),
    when_true="a new value was known", when_false="no new value",
)  # fmt: skip
TRADE = Declaration(
    id="after_trade", section="enter", title="When a trade has ended", sentence="When a trade of {entry} has ended.",
    params=(Param("entry", "entry", "Entry", ""),),
    explains="A decision on the snapshot on which a trade of an entry is gone, whatever ended it: an exit, a limit, settlement, delivery, a hand. "
    "One that ends after a session's last decisions is one in the next session. It is no re-entry: it counts no chain, and waits for crossings.",
    example="When a trade of “puts” has ended.", words=("schedule", "event", "cycle", "wheel", "chain", "then", "next"),
    when_true="a trade had ended", when_false="no trade ended",
)  # fmt: skip


def on_series(params: Params, decides_single: bool) -> Schedule:
    return Schedule({}, decides_single, (params["series"],))


def after_trade(params: Params, decides_single: bool) -> Schedule:
    return Schedule({}, decides_single, after=frozenset({params["entry"]}))


schedules.register(ScheduleRule(SERIES, on_series))
schedules.register(ScheduleRule(TRADE, after_trade))
