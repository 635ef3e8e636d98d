"""When the rules are looked at for an entry."""

from strell_core.measures.declaration import WEEKDAYS, Declaration, Param, minutes
from strell_core.measures.frames import Params
from strell_core.strategy.kinds import ScheduleRule, schedules
from strell_core.strategy.schedule import Schedule

DECLARATION = Declaration(
    id="decision_times", section="enter", title="Decision times", sentence="On {weekdays} at {time}.",
    params=(
        Param("weekdays", "weekdays", "Weekdays", ["mon", "wed"]),
        Param("time", "time", "Time of day", "15:45"),
    ),
    explains="Days and time (exchange-local) at which an entry is decided, on the first snapshot at or after "
    "that time within one step; otherwise the decision is skipped and counted.",
    example="On Mon and Wed at 15:45.", words=("schedule", "weekday", "time of day", "when"),
    when_true="it was a decision time", when_false="no snapshot near {time}",
)  # fmt: skip
EVERY = Declaration(
    id="every_minutes", section="enter", title="Every so many minutes",
    sentence="On {weekdays} every {minutes} minutes from {from} until {until}.",
    params=(
        Param("weekdays", "weekdays", "Weekdays", list(WEEKDAYS)), Param("minutes", "integer", "Minutes", 30, 5, 480, 5),
        Param("from", "time", "From", "10:00"), Param("until", "time", "Until", "15:00"),
    ),
    explains="Decision times from the first to the last, so many minutes apart, each as one of *Decision times*. Several "
    "sentences that say when add up.",
    example="On Mon, Tue, Wed, Thu and Fri every 30 minutes from 10:00 until 15:00.", words=("schedule", "intraday", "interval", "when"),
    when_true="it was a decision time", when_false="no snapshot near a decision time",
)  # fmt: skip
KEPT = Declaration(
    id="picks_kept", section="enter", title="Picks are kept for the day", sentence="What is picked at a day's first decision time is kept for the others.",
    params=(),
    explains="Legs are picked at the first decision time of the day, or the first at which every leg can be, whether or not the entry is made "
    "then; later ones judge the same contracts at their prices then. Without it every decision time picks afresh. So an entry can wait for the "
    "premium of one structure.",
    example="What is picked at a day's first decision time is kept for the others.",
    words=("once", "morning", "fixed", "watch", "wait", "schedule", "same strikes"), once=True,
)  # fmt: skip


def schedule(params: Params, decides_single: bool) -> Schedule:
    return Schedule(dict.fromkeys(days(params), (minutes(params["time"]),)), decides_single)


def days(params: Params) -> list[int]:
    return [WEEKDAYS.index(day) for day in params["weekdays"]]


def every(params: Params, decides_single: bool) -> Schedule:
    first, last = minutes(params["from"]), minutes(params["until"])
    return Schedule(
        dict.fromkeys(days(params), tuple(range(first, max(first, last) + 1, params["minutes"]))), decides_single
    )


def kept(params: Params, decides_single: bool) -> Schedule:
    return Schedule({}, decides_single, keeps=True)


schedules.register(ScheduleRule(DECLARATION, schedule))
schedules.register(ScheduleRule(EVERY, every))
schedules.register(ScheduleRule(KEPT, kept))
