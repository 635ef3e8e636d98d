"""How far reports and other announced things are, in closes of the underlying's calendar; and how the last one moved."""

from __future__ import annotations

import datetime as dt
from typing import Any

import numpy as np
import numpy.typing as npt

from strell_core.market.prices import SPOT_SCALE
from strell_core.market.timeline import Timeline
from strell_core.market.view import ChainView
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.measure import MarketMeasure, Params, Series, measures
from strell_core.measures.smiles import straddle

EVENT = Param("event", "words", "Called", "report")
MEANT = (
    "Every event of the underlying in whose name these words stand is meant, and taken as announced long before. One without a time of day "
    "happens at its session's open."
)
TO = Declaration(
    id="sessions_to_event", usual=("at most", 1), section="measure", title="Sessions to the next report or other event", sentence="sessions to the next {event}",
    params=(EVENT,),
    explains=f"Closes before the next one: 1 on the day after whose close it comes, 0 on a day within which it comes. Unvalued when none is "
    f"known. {MEANT}",
    example="sessions to the next “report”", words=("earnings", "announcement", "results", "event"), scope="event", clock="day", grid=1,
    needs=("events",),
)  # fmt: skip
SINCE = Declaration(
    id="sessions_since_event", usual=("at least", 1), section="measure", title="Sessions since the last report or other event",
    sentence="sessions since the last {event}", params=(EVENT,),
    explains=f"Closes since the last one that had happened when the session opened: 0 in the first session after it. Unvalued before the "
    f"first. {MEANT}",
    example="sessions since the last “report”", words=("earnings", "announcement", "results", "event"), scope="event", clock="day", grid=1,
    needs=("events",),
)  # fmt: skip
MOVED = Declaration(
    id="event_move", usual=("above", 1), section="measure", title="Move at the last report or other event", sentence="the last {event}'s move in {unit}",
    params=(
        EVENT,
        Param("unit", "choice", "In", "expected", choices={"expected": "expected moves", "percent": "%"}),
    ),
    explains="From the close before it to the next, without sign: in percent, or against what was expected before, the mid of the straddle "
    "nearest to the forward, in the first expiration that did not settle before that next close, at the last snapshot before the event (common "
    f"practice). Above 1 it moved by more than was paid for. Known from the session after on. Unvalued before the first. {MEANT}",
    example="the last “report”'s move in expected moves", words=("earnings", "implied move", "actual move", "reaction"), scope="event",
    clock="day", grid=0.001, needs=("events", "chain"),
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


def moved(timeline: Timeline, params: Params) -> Series:
    out = np.full(len(timeline.dates), np.nan)
    happens, (_, closes, _) = instants(timeline, params["event"]), _sessions(timeline)
    last = timeline.first[1:] - 1
    ends = np.array(
        [timeline.calendar.session(date).close if date in timeline.calendar else int(timeline.times[at])
         for date, at in zip(timeline.dates, last, strict=True)], np.int64,
    )  # fmt: skip
    for instant in happens.tolist():
        after = int(np.searchsorted(ends, instant, side="right"))
        # the close before and the next one are recorded, no session between them is missing
        if (
            not 0 < after < len(ends)
            or np.searchsorted(closes, ends[after]) - np.searchsorted(closes, ends[after - 1]) != 1
        ):
            continue
        before, now = timeline.daily.before(after + 1).close[-2:]
        size = abs(100 * (now / before - 1))
        if params["unit"] == "expected":
            size /= _expected(timeline.view(int(last[after - 1])), int(ends[after]))
        out[after + 1 :] = size
    return out


def _expected(view: ChainView, until: int) -> float:
    """The straddle that was paid for before something that happens until an instant, in percent of spot; NaN without one."""
    over = [date for date in view.expirations if view.timeline.cubes[date].settlement_at >= until]
    return 100 * straddle(view, over[0]) / (view.spot / SPOT_SCALE) if over else np.nan


for _declaration, _series in ((TO, to_event), (SINCE, since_event), (MOVED, moved)):
    measures.register(MarketMeasure(_declaration, _series))
