"""Staying out around what is announced."""

from collections.abc import Callable
from functools import partial

from strell_core.measures.day.events import EVENT
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import FALSE, TRUE, Params, Verdict
from strell_core.measures.measure import MarketMeasure, load
from strell_core.strategy.kinds import EnterCondition, EntryFrame, enter_conditions

SESSIONS = (Param("before", "integer", "Before", 2, 0, 60), Param("after", "integer", "After", 0, 0, 60))
TELLS = {
    "tells": ("to", "since"), "when_true": "{to} to the next, {since} since the last",
    "when_false": "{to} to the next, {since} since the last",
}  # fmt: skip
DIVIDEND = Declaration(
    id="stay_out", section="enter", title="Stay out around dividends",
    sentence="Not from {before|session|sessions} before a dividend until {after|session|sessions} after it.", params=SESSIONS,
    explains="Counts closes to the day on which the underlying next trades without a dividend, and since the last such day. Dividends that "
    "are not known keep nobody out.",
    example="Not from 2 sessions before a dividend until 0 sessions after it.", words=("event", "ex-date", "blackout", "avoid"), **TELLS,  # type: ignore[arg-type]
)  # fmt: skip
REPORT = Declaration(
    id="stay_out_event", section="enter", title="Stay out around reports and other events",
    sentence="Not from {before|session|sessions} before a {event} until {after|session|sessions} after it.", params=(*SESSIONS, EVENT),
    explains="Counts closes to the next event in whose name these words stand, and since the last: 1 before on the day after whose close it "
    "comes, 0 after in the first session that follows. Events that are not known keep nobody out.",
    example="Not from 2 sessions before a “report” until 0 sessions after it.", words=("earnings", "blackout", "avoid", "announcement"), **TELLS,  # type: ignore[arg-type]
)  # fmt: skip


def judge(frame: EntryFrame, params: Params, to: str, since: str, named: Callable[[Params], Params]) -> Verdict:
    found = []
    for name in (to, since):
        measure = load()[name]
        assert isinstance(measure, MarketMeasure)
        found.append(measure.at(frame.observation, named(params), frame.symbol))
    ahead, behind = found
    near = (ahead is not None and ahead <= params["before"]) or (behind is not None and behind <= params["after"])
    told = {"to": "none" if ahead is None else int(ahead), "since": "none" if behind is None else int(behind)}
    return Verdict(FALSE if near else TRUE, told)


for _declaration, _kind, _named in (
    (DIVIDEND, "dividend", lambda params: {}), (REPORT, "event", lambda params: {"event": params["event"]}),
):  # fmt: skip
    enter_conditions.register(
        EnterCondition(
            _declaration, partial(judge, to=f"sessions_to_{_kind}", since=f"sessions_since_{_kind}", named=_named)
        )
    )
