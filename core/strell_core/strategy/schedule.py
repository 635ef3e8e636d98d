"""When an entry is looked at: its decision instants with their status, for everybody who asks."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from strell_core.market.calendars import SessionCalendar
from strell_core.market.timeline import GRID_MINUTES, Timeline

DUE, MISSED, POLICY_SKIP = "due", "missed", "policy"
DAYS_AHEAD = 14


@dataclass(frozen=True)
class Schedule:
    """Looks at minutes of the exchange-local day, by weekday (Monday 0), in sessions that end before one just before
    their end (semantics rule 1). Times that fall on one snapshot are one look."""

    times: Mapping[int, tuple[int, ...]]
    decides_single: bool = True
    """Whether it looks in sessions with a single snapshot, once."""

    def status(self, timeline: Timeline, index: int) -> str | None:
        """Whether snapshot ``index`` is a look: due, missed, skipped by policy; ``None``: it is none."""
        session = int(timeline.session_of[index])
        minutes = self.times.get(timeline.dates[session].weekday(), ())
        if not minutes:
            return None
        if timeline.is_single[index]:
            return DUE if self.decides_single else POLICY_SKIP
        first, now = int(timeline.first[session]), int(timeline.minute[index])
        before = int(timeline.minute[index - 1]) if index > first else -1
        found: str | None = None
        for wanted in minutes:
            minute = timeline.minute_in(session, wanted)
            if before >= minute:
                continue
            if minute <= now <= minute + timeline.step_minutes(session):
                return DUE
            if now > minute or timeline.is_last[index]:
                found = MISSED
        return found

    def looks(self, timeline: Timeline, begin: int, end: int) -> npt.NDArray[np.int64]:
        """All snapshots in ``[begin, end)`` for which :meth:`status` has something to say."""
        out: list[int] = []
        low, high = int(timeline.session_of[begin]), int(timeline.session_of[end - 1])
        for session in range(low, high + 1):
            minutes = self.times.get(timeline.dates[session].weekday(), ())
            a, b = int(timeline.first[session]), int(timeline.first[session + 1])
            for wanted in minutes:
                at = a + int(np.searchsorted(timeline.minute[a:b], timeline.minute_in(session, wanted)))
                out.append(min(at, b - 1))
        indices = np.unique(np.array(out, np.int64))
        return indices[(indices >= begin) & (indices < end)]

    def next_after(self, calendar: SessionCalendar, session: dt.date, instant: int) -> int | None:
        """Epoch second of the first look after ``instant``, from ``session`` on; ``None`` within two weeks."""
        for date in calendar.between(session, session + dt.timedelta(days=DAYS_AHEAD)):
            close = calendar.session(date).close
            found = [calendar.instant(date, dt.time(m // 60, m % 60)) for m in self.times.get(date.weekday(), ())]
            acting = [at if at <= close else close - 60 * GRID_MINUTES for at in found]
            later = [at for at in acting if at > instant]
            if later:
                return min(later)
        return None


def together(schedules: Sequence[Schedule]) -> Schedule:
    """Several schedules of one entry as one."""
    times: dict[int, set[int]] = {}
    for schedule in schedules:
        for weekday, minutes in schedule.times.items():
            times.setdefault(weekday, set()).update(minutes)
    return Schedule(
        {weekday: tuple(sorted(minutes)) for weekday, minutes in times.items()}, schedules[0].decides_single
    )
