"""When the rules are looked at for an entry."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.strategy.kinds import TRUE, EnterCondition, EntryContext, Params, Verdict, enter_conditions

DECLARATION = Declaration(
    id="decision_times", section="enter", title="Decision times", sentence="On {weekdays} at {time}.",
    params=(
        Param("weekdays", "weekdays", "Weekdays", ["mon", "wed"]),
        Param("time", "time", "Time of day", "15:45"),
    ),
    explains="Days and time (exchange-local) at which an entry is decided, on the first snapshot at or after "
    "that time within one step; otherwise the decision is skipped and counted.",
    example="On Mon and Wed at 15:45.", words=("schedule", "weekday", "time of day", "when"), once=True,
    when_true="it was a decision time", when_false="no snapshot within {minutes} minutes after {time}",
)  # fmt: skip


def judge(context: EntryContext, params: Params) -> Verdict:
    """Always true: the engine asks only at decision times."""
    return Verdict(TRUE, {})


enter_conditions.register(EnterCondition(DECLARATION, judge))
