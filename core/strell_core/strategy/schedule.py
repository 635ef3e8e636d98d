"""When an entry is looked at: its decision instants with their status, for everybody who asks."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from strell_core.market.calendars import SessionCalendar
from strell_core.market.timeline import GRID_MINUTES, Timeline

DUE, MISSED, POLICY_SKIP = "due", "missed", "policy"
DAYS_AHEAD = 14


@dataclass(frozen=True)
class Schedule:
    """One look a session on some weekdays, at a minute of the exchange-local day, in sessions that end before it
    just before their end (semantics rule 1)."""

    weekdays: frozenset[int]
    minute: int
    decides_single: bool = True
    """Whether it looks in sessions with a single snapshot."""

    def status(self, timeline: Timeline, index: int) -> str | None:
        """Whether snapshot ``index`` is a look: due, missed, skipped by policy; ``None``: it is none."""
        session = int(timeline.session_of[index])
        if timeline.dates[session].weekday() not in self.weekdays:
            return None
        if timeline.is_single[index]:
            return DUE if self.decides_single else POLICY_SKIP
        first, now = int(timeline.first[session]), int(timeline.minute[index])
        before, minute = (
            int(timeline.minute[index - 1]) if index > first else -1,
            timeline.minute_in(session, self.minute),
        )
        if before >= minute:
            return None
        if now < minute:
            return MISSED if timeline.is_last[index] else None
        return DUE if now - minute <= timeline.step_minutes(session) else MISSED

    def looks(self, timeline: Timeline, begin: int, end: int) -> npt.NDArray[np.int64]:
        """All snapshots in ``[begin, end)`` for which :meth:`status` has something to say."""
        out = []
        low, high = int(timeline.session_of[begin]), int(timeline.session_of[end - 1])
        for session in range(low, high + 1):
            if timeline.dates[session].weekday() in self.weekdays:
                a, b = int(timeline.first[session]), int(timeline.first[session + 1])
                at = a + int(np.searchsorted(timeline.minute[a:b], timeline.minute_in(session, self.minute)))
                out.append(min(at, b - 1))
        indices = np.array(out, np.int64)
        return indices[(indices >= begin) & (indices < end)]

    def next_after(self, calendar: SessionCalendar, session: dt.date, instant: int) -> int | None:
        """Epoch second of the first look after ``instant``, from ``session`` on; ``None`` within two weeks."""
        time = dt.time(self.minute // 60, self.minute % 60)
        for date in calendar.between(session, session + dt.timedelta(days=DAYS_AHEAD)):
            close = calendar.session(date).close
            at = calendar.instant(date, time)
            if at > close:
                at = close - 60 * GRID_MINUTES
            if date.weekday() in self.weekdays and at > instant:
                return at
        return None
