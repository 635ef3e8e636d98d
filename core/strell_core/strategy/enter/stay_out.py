"""Staying out around what is announced."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import FALSE, TRUE, Params, Verdict
from strell_core.measures.measure import MarketMeasure, load
from strell_core.strategy.kinds import EnterCondition, EntryFrame, enter_conditions

DECLARATION = Declaration(
    id="stay_out", section="enter", title="Stay out around dividends",
    sentence="Not from {before|session|sessions} before a dividend until {after|session|sessions} after it.",
    params=(Param("before", "integer", "Before", 2, 0, 60), Param("after", "integer", "After", 0, 0, 60)),
    explains="Counts closes to the day on which the underlying next trades without a dividend, and since the last such day. Dividends that "
    "are not known keep nobody out.",
    example="Not from 2 sessions before a dividend until 0 sessions after it.", words=("event", "ex-date", "blackout", "avoid"),
    tells=("to", "since"), when_true="{to} to the next, {since} since the last", when_false="{to} to the next, {since} since the last",
)  # fmt: skip


def judge(frame: EntryFrame, params: Params) -> Verdict:
    found = []
    for name in ("sessions_to_dividend", "sessions_since_dividend"):
        measure = load()[name]
        assert isinstance(measure, MarketMeasure)
        found.append(measure.at(frame.observation, {}, frame.symbol))
    to, since = found
    near = (to is not None and to <= params["before"]) or (since is not None and since <= params["after"])
    told = {"to": "none" if to is None else int(to), "since": "none" if since is None else int(since)}
    return Verdict(FALSE if near else TRUE, told)


enter_conditions.register(EnterCondition(DECLARATION, judge))
