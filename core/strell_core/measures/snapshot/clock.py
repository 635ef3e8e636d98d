"""The session's clock."""

from dataclasses import dataclass

import numpy as np

from strell_core.market.timeline import Timeline
from strell_core.measures.declaration import Declaration
from strell_core.measures.frames import Frame
from strell_core.measures.measure import MarketMeasure, Params, Series, measures

SINCE = Declaration(
    id="minutes_since_open", usual=("at least", 30), section="measure", title="Minutes since the open", sentence="minutes since the open", params=(),
    explains="Minutes from the session's scheduled open to now.", example="minutes since the open",
    words=("time", "morning", "open"), scope="clock", clock="snapshot", unit="min", grid=1,
)  # fmt: skip
UNTIL = Declaration(
    id="minutes_to_close", usual=("at most", 10), section="measure", title="Minutes to the close", sentence="minutes to the close", params=(),
    explains="Minutes from now to the session's scheduled close, the earlier one on short days.", example="minutes to the close",
    words=("time", "afternoon", "close"), scope="clock", clock="snapshot", unit="min", grid=1,
)  # fmt: skip


def _sessions(timeline: Timeline, which: str) -> Series:
    """Scheduled open or close by session, epoch seconds; NaN of a date that is no session of the calendar."""
    out = np.full(len(timeline.dates), np.nan)
    for number, date in enumerate(timeline.dates):
        if date in timeline.calendar:
            out[number] = getattr(timeline.calendar.session(date), which)
    return out


def since_open(timeline: Timeline, params: Params) -> Series:
    made: Series = (timeline.times - _sessions(timeline, "open")[timeline.session_of]) / 60
    return made


def to_close(timeline: Timeline, params: Params) -> Series:
    made: Series = (_sessions(timeline, "close")[timeline.session_of] - timeline.times) / 60
    return made


@dataclass(frozen=True)
class Clock(MarketMeasure):
    """Minutes that go by, ``way`` 1, or are left, −1."""

    way: int

    def raw(self, frame: Frame, params: Params) -> Series:
        found = super().raw(frame, params)
        return found + self.way * frame.market.main.to_last[frame.begin : frame.end] if frame.closing else found


measures.register(Clock(SINCE, since_open, 1))
measures.register(Clock(UNTIL, to_close, -1))
