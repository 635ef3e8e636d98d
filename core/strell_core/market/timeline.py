"""Recorded history of one underlying as arrays over one time axis, and the chain at an instant.

Quotes are held per expiration as *cubes*: ``(contracts, its snapshots)``, calls before puts, each
by strike. The arrays may be memory-mapped; nothing here copies them.
"""

from __future__ import annotations

import datetime as dt
from bisect import bisect_left, bisect_right
from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from strell_core.market.calendars import SessionCalendar
from strell_core.market.dividends import Dividend, to_come
from strell_core.market.instruments import ContractKey, Strike, Underlying, strike_of, thousandths
from strell_core.market.splits import Split

GRID_MINUTES = 5
"""Step of a session of which only one snapshot is recorded so far."""

NO_DELTA = -32768
"""Stored delta of a quote that has none."""


def valid_quotes(bid: npt.NDArray[np.integer], ask: npt.NDArray[np.integer]) -> npt.NDArray[np.bool_]:
    """Quotes that may be used, elementwise: bid ≥ 0, ask > 0, bid ≤ ask (semantics rule 3)."""
    return (bid >= 0) & (ask > 0) & (bid <= ask)


class Quote(NamedTuple):
    """One contract at one instant: quanta, 0.0001 of volatility, 0.0001 of delta (``None``: none)."""

    bid: int
    ask: int
    iv: int | None
    delta: int | None

    @property
    def valid(self) -> bool:
        """As :func:`valid_quotes`."""
        return 0 <= self.bid <= self.ask and self.ask > 0


NO_QUOTE_AT_ALL = Quote(-1, -1, None, None)


@dataclass(frozen=True)
class ExpirationCube:
    """All quotes of one expiration. ``start`` is the timeline index of its first column."""

    expiration: dt.date
    settlement_at: int
    start: int
    strikes: npt.NDArray[np.float64]
    bid: npt.NDArray[np.int32]
    ask: npt.NDArray[np.int32]
    iv: npt.NDArray[np.uint16]
    delta: npt.NDArray[np.int16]
    forward: npt.NDArray[np.float64]
    open_interest: npt.NDArray[np.int32]
    """As published each session: ``(contracts, sessions of its life)``."""
    first_session: int

    @property
    def end(self) -> int:
        return self.start + self.bid.shape[1]

    def row(self, right: str, strike: Strike) -> int | None:
        """Row of a contract, ``None`` if it is not listed."""
        at = self._position.get(strike)
        return at if at is None or right == "call" else at + len(self.strikes)

    @cached_property
    def _position(self) -> dict[Strike, int]:
        return {strike_of(thousandths(strike)): at for at, strike in enumerate(self.strikes.tolist())}


@dataclass(frozen=True)
class ExpirationSlice:
    """One right of one expiration at one instant; arrays ``(strikes,)``, see :class:`Quote`."""

    expiration: dt.date
    right: str
    settlement_at: int
    forward: float
    strikes: npt.NDArray[np.float64]
    bid: npt.NDArray[np.int32]
    ask: npt.NDArray[np.int32]
    iv: npt.NDArray[np.uint16]
    delta: npt.NDArray[np.int16]
    open_interest: npt.NDArray[np.int32]

    @property
    def valid(self) -> npt.NDArray[np.bool_]:
        """Quotes that may be traded on (semantics rule 3)."""
        return valid_quotes(self.bid, self.ask)


class ChainView:
    """The chain at one instant."""

    def __init__(self, timeline: Timeline, index: int) -> None:
        self._timeline = timeline
        self.index = index
        self.instant = int(timeline.times[index])
        self.spot = int(timeline.spot[index])
        self.date = timeline.dates[int(timeline.session_of[index])]
        self.underlying = timeline.underlying.on(self.date)

    def interest(self, expiration: dt.date) -> float:
        """Continuously compounded interest a year to an expiration."""
        return self.underlying.interest(self.date, expiration)

    def dividends(self, settlement: int) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
        """Seconds until each dividend before ``settlement``, and points, ``(n,)``."""
        known = [Dividend(date, amount) for date, amount in self.underlying.dividends]
        return to_come(known, self._timeline.calendar, self.instant, settlement)

    @cached_property
    def expirations(self) -> list[dt.date]:
        """Expirations with quotes at this instant, nearest first."""
        return [
            cube.expiration
            for cube in self._timeline.cubes_at(self.index)
            if bool((cube.ask[:, self.index - cube.start] > 0).any())
        ]

    def listed(self, settlement: int) -> list[dt.date]:
        """Expirations recorded now that settle at an epoch second, quoted or not."""
        return [c.expiration for c in self._timeline.cubes_at(self.index) if c.settlement_at == settlement]

    def slice(self, expiration: dt.date, right: str) -> ExpirationSlice:
        """Quotes of one right of one expiration; raises ``KeyError`` when it is not listed."""
        cube = self._timeline.cubes[expiration]
        if not cube.start <= self.index < cube.end:
            raise KeyError(expiration)
        column, n = self.index - cube.start, len(cube.strikes)
        rows = slice(0, n) if right == "call" else slice(n, 2 * n)
        session = int(self._timeline.session_of[self.index]) - cube.first_session
        return ExpirationSlice(
            expiration, right, cube.settlement_at, float(cube.forward[column]), cube.strikes,
            cube.bid[rows, column], cube.ask[rows, column], cube.iv[rows, column], cube.delta[rows, column],
            cube.open_interest[rows, session],
        )  # fmt: skip

    def forward(self, expiration: dt.date) -> float:
        """Parity forward in points, NaN if there is none."""
        cube = self._timeline.cubes.get(expiration)
        if cube is None or not cube.start <= self.index < cube.end:
            return float("nan")
        return float(cube.forward[self.index - cube.start])

    def quote(self, contract: ContractKey) -> Quote:
        """Quote of a contract; an invalid :class:`Quote` if it has none now."""
        cube = self._timeline.cubes.get(contract.expiration)
        if cube is None or not cube.start <= self.index < cube.end:
            return NO_QUOTE_AT_ALL
        row = cube.row(contract.right, contract.strike)
        if row is None:
            return NO_QUOTE_AT_ALL
        at = self.index - cube.start
        iv, delta = int(cube.iv[row, at]), int(cube.delta[row, at])
        return Quote(int(cube.bid[row, at]), int(cube.ask[row, at]), iv or None, None if delta == NO_DELTA else delta)


@dataclass(frozen=True)
class DailyHistory:
    """One value a completed session, oldest first: what daily measures are made from."""

    dates: tuple[dt.date, ...]
    close: npt.NDArray[np.float64]
    atm_iv: npt.NDArray[np.float64]
    """At-the-money IV (percent) of the expiration nearest 30 days, at the last snapshot; NaN: none."""
    earlier: int = 0
    """Sessions here that come before the first session of the timeline that holds this."""
    splits: tuple[Split, ...] = ()

    def before(self, session: int) -> DailyHistory:
        """What was known when session number ``session`` of the timeline began, closes in the units of that day
        (semantics rule 2)."""
        known = self.earlier + session
        close = self.close[:known]
        for split in self.splits:
            place = bisect_left(self.dates, split.date)
            if 0 < place <= known:
                close = close.copy()
                close[:place] /= split.ratio
        return DailyHistory(self.dates[:known], close, self.atm_iv[:known])

    def unit_ends(self, sessions: int) -> list[int]:
        """Sessions of the timeline after which :meth:`before` gives closes in other units, and ``sessions``."""
        places = {bisect_left(self.dates, split.date) for split in self.splits}
        ends = {place - 1 - self.earlier for place in places if 0 < place <= len(self.dates)}
        return sorted({end for end in ends if 0 <= end < sessions} | {sessions})


class Timeline:
    """Recorded snapshots of one underlying, end to end, with all its expirations."""

    def __init__(
        self, underlying: Underlying, calendar: SessionCalendar, dates: tuple[dt.date, ...],
        first: npt.NDArray[np.int64], times: npt.NDArray[np.int64], spot: npt.NDArray[np.int32],
        settlement: npt.NDArray[np.int32], daily: DailyHistory, cubes: dict[dt.date, ExpirationCube], digest: str,
        unfinished: bool = False,
    ) -> None:  # fmt: skip
        """``unfinished``: the last session is still being recorded, so its last snapshot so far is
        neither the session's only nor its last one."""
        self.underlying = underlying
        self.calendar = calendar
        self.dates = dates
        self.first = first
        self.times = times
        self.spot = spot
        self.settlement = settlement
        self.daily = daily
        self.cubes = cubes
        self.digest = digest
        counts = np.diff(first)
        self.session_of = np.repeat(np.arange(len(dates), dtype=np.int32), counts)
        offsets = np.array([_utc_offset(calendar, date) for date in dates], np.int64)
        self.minute = ((times + np.repeat(offsets, counts)) % 86_400 // 60).astype(np.int32)
        self.ordinal = np.repeat(np.array([d.toordinal() for d in dates], np.int32), counts)
        self.is_single = np.repeat(counts == 1, counts)
        self.is_last = np.zeros(len(times), np.bool_)
        self.is_last[first[1:] - 1] = True
        if unfinished:
            self.is_single[first[-2] :] = False
            self.is_last[first[-1] - 1] = False
        self.last_of_several = self.is_last & ~self.is_single
        self._session_index = {date: index for index, date in enumerate(dates)}
        self.splits: dict[int, Split] = {}
        """By the first snapshot of the session from whose open on it holds."""
        for date, ratio in underlying.splits:
            session = bisect_left(dates, date)
            if 0 < session < len(dates):
                self.splits[int(first[session])] = Split(date, ratio)

    def cube(self, contract: ContractKey) -> ExpirationCube | None:
        """Quotes of a contract's expiration; ``None`` where it is not recorded."""
        return self.cubes.get(contract.expiration)

    @cached_property
    def computed(self) -> dict[Any, Any]:
        """What was computed from the whole timeline, kept for whoever asks again."""
        return {}

    @cached_property
    def _ordered(self) -> list[ExpirationCube]:
        return [self.cubes[date] for date in sorted(self.cubes)]

    @cached_property
    def _dates_ordered(self) -> list[dt.date]:
        return sorted(self.cubes)

    def cubes_at(self, index: int) -> list[ExpirationCube]:
        """Expirations listed at a timeline index, nearest first."""
        today = self.dates[int(self.session_of[index])]
        begin = bisect_left(self._dates_ordered, today)
        return [cube for cube in self._ordered[begin:] if cube.start <= index < cube.end]

    def view(self, index: int) -> ChainView:
        return ChainView(self, index)

    def step_minutes(self, session: int) -> int:
        """Minutes between the snapshots of a session, as its first two tell."""
        first = int(self.first[session])
        if first + 1 >= int(self.first[session + 1]):
            return GRID_MINUTES
        return int(self.minute[first + 1] - self.minute[first])

    def session_index(self, date: dt.date) -> int | None:
        """Number of the recorded session of ``date``, ``None`` if there is none."""
        return self._session_index.get(date)

    def at_or_before(self, instant: int) -> int:
        """Index of the last snapshot not after ``instant``; raises ``ValueError`` before the first."""
        index = bisect_right(self.times, instant) - 1
        if index < 0:
            raise ValueError("there is no recorded snapshot so early")
        return index

    def next_split(self, index: int) -> int:
        """First snapshot from ``index`` on with which a split holds; the end of the timeline without one."""
        return min((at for at in self.splits if at >= index), default=len(self.times))

    def multiplied(self, since: int, until: int) -> int:
        """Contracts that one of epoch second ``since`` has become by ``until``, over splits in whole numbers."""
        out = 1
        for index, split in self.splits.items():
            if since < int(self.times[index]) <= until:
                out *= split.whole or 1
        return out

    def date_at(self, instant: int) -> dt.date:
        """Session of the last snapshot not after ``instant``; raises ``ValueError`` before the first."""
        return self.dates[int(self.session_of[self.at_or_before(instant)])]

    def span(self, start: dt.date, end: dt.date) -> tuple[int, int]:
        """Timeline indices ``[a, b)`` of the sessions from ``start`` to ``end``, both included."""
        low, high = bisect_left(self.dates, start), bisect_right(self.dates, end)
        return int(self.first[low]), int(self.first[high])


def _utc_offset(calendar: SessionCalendar, date: dt.date) -> int:
    offset = dt.datetime.combine(date, dt.time(12), calendar.tz).utcoffset()
    return int(offset.total_seconds()) if offset else 0
