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
    example="On Mon and Wed at 15:45.", words=("schedule", "weekday", "time of day", "when"), once=True,
    when_true="it was a decision time", when_false="no snapshot near {time}",
)  # fmt: skip


def schedule(params: Params, decides_single: bool) -> Schedule:
    days = frozenset(WEEKDAYS.index(day) for day in params["weekdays"])
    return Schedule(days, minutes(params["time"]), decides_single)


schedules.register(ScheduleRule(DECLARATION, schedule))
