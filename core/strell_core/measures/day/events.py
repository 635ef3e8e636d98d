"""How far reports and other announced things are, in closes of the underlying's calendar."""

from __future__ import annotations

import datetime as dt
from typing import Any

import numpy as np
import numpy.typing as npt

from strell_core.market.timeline import Timeline
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.measure import MarketMeasure, Params, Series, measures

EVENT = Param("event", "words", "Called", "report")
MEANT = (
    "Every event of the underlying in whose name these words stand is meant, and taken as announced long before. One without a time of day "
    "happens at its session's open."
)
TO = Declaration(
    id="sessions_to_event", section="measure", title="Sessions to the next report or other event", sentence="sessions to the next {event}",
    params=(EVENT,),
    explains=f"Closes before the next one: 1 on the day after whose close it comes, 0 on a day within which it comes. Unvalued when none is "
    f"known. {MEANT}",
    example="sessions to the next “report”", words=("earnings", "announcement", "results", "event"), scope="event", clock="day", grid=1,
    needs=("events",),
)  # fmt: skip
SINCE = Declaration(
    id="sessions_since_event", section="measure", title="Sessions since the last report or other event",
    sentence="sessions since the last {event}", params=(EVENT,),
    explains=f"Closes since the last one that had happened when the session opened: 0 in the first session after it. Unvalued before the "
    f"first. {MEANT}",
    example="sessions since the last “report”", words=("earnings", "announcement", "results", "event"), scope="event", clock="day", grid=1,
    needs=("events",),
)  # fmt: skip


def instants(timeline: Timeline, words: str) -> npt.NDArray[np.int64]:
    """Epoch seconds at which events of a name happen, ascending."""
    calendar, found = timeline.calendar, []
    for date, at, text in timeline.underlying.events:
        if words.casefold() in text.casefold():
            whole = calendar.session(date).open if date in calendar else calendar.instant(date, dt.time(0))
            found.append(at or whole)
    return np.array(sorted(found), np.int64)


def _sessions(timeline: Timeline) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    """Opens of the timeline's sessions, all closes of the calendar, and how many of these lie before each session."""
    known: Any = timeline.computed.get("opens and closes")
    if known is None:
        calendar = timeline.calendar
        closes = np.array([session.close for session in calendar.sessions], np.int64)
        opens = np.array(
            [calendar.session(date).open if date in calendar else int(timeline.times[first])
             for date, first in zip(timeline.dates, timeline.first[:-1], strict=True)], np.int64,
        )  # fmt: skip
        known = timeline.computed["opens and closes"] = opens, closes, np.searchsorted(closes, opens)
    found: tuple[npt.NDArray[np.int64], npt.NDArray[np.int64], npt.NDArray[np.int64]] = known
    return found


def to_event(timeline: Timeline, params: Params) -> Series:
    happens, (opens, closes, before) = instants(timeline, params["event"]), _sessions(timeline)
    place = np.searchsorted(happens, opens, side="right")
    there = place < len(happens)
    if not len(happens):
        return np.full(len(opens), np.nan)
    upcoming = happens[np.minimum(place, len(happens) - 1)]
    return np.where(there, np.searchsorted(closes, upcoming, side="right") - before, np.nan)


def since_event(timeline: Timeline, params: Params) -> Series:
    happens, (opens, closes, before) = instants(timeline, params["event"]), _sessions(timeline)
    place = np.searchsorted(happens, opens, side="right") - 1
    if not len(happens):
        return np.full(len(opens), np.nan)
    last = happens[np.maximum(place, 0)]
    return np.where(place >= 0, before - np.searchsorted(closes, last, side="right"), np.nan)


for _declaration, _series in ((TO, to_event), (SINCE, since_event)):
    measures.register(MarketMeasure(_declaration, _series))
