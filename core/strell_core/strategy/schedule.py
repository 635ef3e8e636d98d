"""When an entry is looked at: its decision instants with their status, for everybody who asks."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from strell_core.market.calendars import SessionCalendar
from strell_core.market.market import Market, market_of
from strell_core.market.timeline import GRID_MINUTES, Timeline

DUE, MISSED, POLICY_SKIP = "due", "missed", "policy"
DAYS_AHEAD = 14


Indices = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Schedule:
    """Looks at minutes of the exchange-local day, by weekday (Monday 0), in sessions that end before one just before
    their end (semantics rule 1); and on values of series. What falls on one snapshot is one look."""

    times: Mapping[int, tuple[int, ...]] = field(default_factory=dict)
    decides_single: bool = True
    """Whether it looks in sessions with a single snapshot, once."""
    series: tuple[str, ...] = ()
    """Of which every new value is a look, on the first snapshot on which it is known."""
    after: frozenset[str] = frozenset()
    """Entries of which every trade that ends is a look; the engine knows when."""
    keeps: bool = False
    """What is picked at a session's first look, or the first at which everything fits, is kept for the others."""

    @property
    def timed(self) -> bool:
        """Whether it has looks that do not rest on what the rules did."""
        return bool(self.times or self.series)

    @property
    def decides(self) -> bool:
        """Whether it has looks at all."""
        return self.timed or bool(self.after)

    def status(self, history: Market | Timeline, index: int) -> str | None:
        """Whether snapshot ``index`` is a look: due, missed, skipped by policy; ``None``: it is none."""
        market = market_of(history)
        timed = self._timed(market.main, index) if self.times else None
        if timed == DUE or not self.series:
            return timed
        for name in self.series:
            told = _told(market, name)
            at = int(np.searchsorted(told, index))
            if at < len(told) and told[at] == index:
                return DUE if self.decides_single or not market.main.is_single[index] else POLICY_SKIP
        return timed

    def _timed(self, timeline: Timeline, index: int) -> str | None:
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

    def looks(self, history: Market | Timeline, begin: int, end: int) -> Indices:
        """All snapshots in ``[begin, end)`` for which :meth:`status` has something to say."""
        market = market_of(history)
        timeline, out = market.main, []
        for name in self.series:
            out += _told(market, name).tolist()
        low, high = int(timeline.session_of[begin]), int(timeline.session_of[end - 1])
        for session in range(low, high + 1) if self.times else ():
            minutes = self.times.get(timeline.dates[session].weekday(), ())
            a, b = int(timeline.first[session]), int(timeline.first[session + 1])
            for wanted in minutes:
                at = a + int(np.searchsorted(timeline.minute[a:b], timeline.minute_in(session, wanted)))
                out.append(min(at, b - 1))
        indices = np.unique(np.array(out, np.int64))
        return indices[(indices >= begin) & (indices < end)]

    def due(self, history: Market | Timeline, begin: int, end: int) -> Indices:
        """Those of them at which it is looked: kept with the timeline where they rest on nothing else."""
        market = market_of(history)
        key, kept = ("due", tuple(sorted(self.times.items())), self.decides_single, begin, end), market.main.computed
        found: Indices | None = None if self.series else kept.get(key)
        if found is None:
            every = self.looks(market, begin, end)
            found = every[np.array([self.status(market, int(at)) == DUE for at in every], np.bool_)]
            if not self.series:
                kept[key] = found
        return found

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


def _told(market: Market, name: str) -> Indices:
    """The first snapshots on which values of a series are known, ascending, those from before the first left out."""
    there, timeline = market.series.get(name), market.main
    if there is None:
        return np.empty(0, np.int64)
    known: Indices | None = timeline.computed.get(("told", name, there.digest))
    if known is None:
        at = np.searchsorted(timeline.times, there.known_at[there.known_at >= timeline.times[0]])
        known = timeline.computed["told", name, there.digest] = np.unique(at[at < len(timeline.times)]).astype(np.int64)
    return known


def together(schedules: Sequence[Schedule]) -> Schedule:
    """Several schedules of one entry as one."""
    times: dict[int, set[int]] = {}
    for schedule in schedules:
        for weekday, minutes in schedule.times.items():
            times.setdefault(weekday, set()).update(minutes)
    return Schedule(
        {weekday: tuple(sorted(minutes)) for weekday, minutes in times.items()},
        schedules[0].decides_single,
        tuple(dict.fromkeys(name for schedule in schedules for name in schedule.series)),
        frozenset().union(*(schedule.after for schedule in schedules)),
        any(schedule.keeps for schedule in schedules),
    )
