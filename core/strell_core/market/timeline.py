"""Recorded history of one underlying as arrays over one time axis, and the chain at an instant.

Quotes are held per expiration as *cubes*: ``(contracts, its snapshots)``, calls before puts, each
by strike. The arrays may be memory-mapped; nothing here copies them.
"""

from __future__ import annotations

import datetime as dt
import math
from bisect import bisect_left, bisect_right
from collections.abc import Callable
from dataclasses import dataclass
from decimal import Decimal
from functools import cached_property

import numpy as np
import numpy.typing as npt

from strell_core.market.calendars import SessionCalendar
from strell_core.market.daily import DailyHistory
from strell_core.market.instruments import ContractKey, Strike, Underlying, strike_of, thousandths
from strell_core.market.kept import Kept
from strell_core.market.prices import PARTS, SPOT_SCALE, points_to_parts
from strell_core.market.splits import Split
from strell_core.market.tape import Flat, Tape, tape_of
from strell_core.market.view import NO_DELTA, ChainView

GRID_MINUTES = 5
"""Step of a session of which only one snapshot is recorded so far."""

NEVER_SETTLES = 2**62
NEVER = 24 * 60
"""A minute that no session reaches."""
NO_PRICE = -1
"""Bid and ask where there is no quote."""
Sizes = Callable[[ContractKey, int], tuple[int, int] | None]
"""Contracts bid for and offered of a contract at an epoch second; ``None`` where nothing was told."""
NOTHING = {"bid": NO_PRICE, "ask": NO_PRICE, "iv": 0, "delta": NO_DELTA}
"""What stands in a grid of quotes where nothing was recorded, field by field."""


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
        self.of_snapshots = Kept()
        """What was computed of single snapshots, by snapshot: a timeline that continues this one shares it."""
        self.sizes: Sizes | None = None
        """Contracts bid for and offered, where a history tells them; read when something is dealt."""
        self.flat: Flat | None = None
        """Its quotes as they lie behind one another, where they do."""
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
        self.unfinished = unfinished
        self._session_index = {date: index for index, date in enumerate(dates)}
        self.splits = splits_at(underlying, dates, first)
        """By the first snapshot of the session from whose open on it holds."""

    def quotes(
        self, contract: ContractKey, begin: int, end: int
    ) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
        """Bid and ask of a contract over snapshots ``[begin, end)`` in parts of a quantum, ``(n,)``; none (below 0)
        wherever it is not recorded, be it that its expiration or the contract is missing. Of the underlying itself its
        price is recorded, which is both."""
        if contract.is_unit:
            price = self.spot[begin:end].astype(np.int64) * self.spot_parts // contract.divisor
            return price, price
        bid, ask = np.empty(end - begin, np.int64), np.empty(end - begin, np.int64)
        self.put_quotes(contract, begin, end, bid, ask)
        return bid, ask

    def put_quotes(
        self, contract: ContractKey, begin: int, end: int, bid: npt.NDArray[np.int64], ask: npt.NDArray[np.int64]
    ) -> None:
        """What :meth:`quotes` says of an option, put into two arrays ``(n,)``."""
        cube = self.cubes.get(contract.expiration)
        row = None if cube is None else cube.row(contract.right, contract.strike)
        low, high = (end, end) if cube is None or row is None else (max(begin, cube.start), min(end, cube.end))
        if low > begin or high < end:
            bid[:], ask[:] = NO_PRICE, NO_PRICE
        if cube is not None and row is not None and low < high:
            here, there = slice(low - begin, high - begin), slice(low - cube.start, high - cube.start)
            np.multiply(cube.bid[row, there], PARTS, out=bid[here])
            np.multiply(cube.ask[row, there], PARTS, out=ask[here])

    def quote_at(self, contract: ContractKey, index: int) -> tuple[int, int]:
        """What :meth:`quotes` says of one snapshot."""
        if contract.is_unit:
            price = int(self.spot[index]) * self.spot_parts // contract.divisor
            return price, price
        cube = self.cubes.get(contract.expiration)
        row = None if cube is None else cube.row(contract.right, contract.strike)
        if cube is None or row is None or not cube.start <= index < cube.end:
            return NO_PRICE, NO_PRICE
        at = index - cube.start
        return int(cube.bid[row, at]) * PARTS, int(cube.ask[row, at]) * PARTS

    @cached_property
    def spot_parts(self) -> int:
        """Parts of a quantum in 0.01 points, in which the underlying's price is kept."""
        return points_to_parts(Decimal(1) / SPOT_SCALE, self.underlying.quantum)

    def single_unit(self, opened_on: dt.date) -> ContractKey:
        """The underlying in single units, for a trade opened on a day; in contracts of as many as one option delivers where a
        unit's share of such a contract's price is not a whole number of parts."""
        units = self.multiplier(opened_on)
        return ContractKey.unit(self.underlying.symbol, units if self.spot_parts % units == 0 else 1)

    def multiplier(self, opened_on: dt.date) -> int:
        """That of a trade opened on a day: its contracts keep the terms they were listed with."""
        return self.underlying.on(opened_on).multiplier

    @cached_property
    def _traded(self) -> npt.NDArray[np.int64]:
        """Seconds of sessions up to every snapshot, from the first one on: nights are none."""
        passed = np.diff(self.times, prepend=self.times[:1])
        passed[self.first[:-1]] = 0
        return np.cumsum(passed)

    def traded_between(self, begin: int, end: int) -> int:
        """Seconds of sessions, as recorded, between two snapshots."""
        return int(self._traded[end] - self._traded[begin])

    def after_trading(self, instant: int, seconds: int) -> int:
        """First snapshot at least so many seconds of sessions after the one at or before an instant; the end without
        one."""
        return int(np.searchsorted(self._traded, self._traded[self.at_or_before(instant)] + seconds))

    def recorded_at(self, index: int) -> int:
        """When what is seen at a snapshot was recorded, epoch second; below 0: nothing is seen there."""
        return int(self.times[index])

    def recorded_anew(self, begin: int, end: int) -> npt.NDArray[np.int64]:
        """Snapshots of ``[begin, end)`` at which something is seen that was not seen at the one before."""
        return np.arange(begin, max(begin, end))

    def recorded_after(self, instant: int) -> int:
        """First snapshot at which what is seen was recorded after an epoch second; the end without one."""
        return bisect_right(self.times, instant)

    def official(self, date: dt.date) -> int | None:
        """The settlement value of a session's day, 0.01 points; ``None``: it is not recorded."""
        session = self._session_index.get(date)
        return None if session is None else int(self.settlement[session])

    def listed_until(self, contract: ContractKey) -> int:
        """One past the last snapshot that has the contract's expiration; 0 where none has."""
        if contract.is_unit:
            return len(self.times)
        cube = self.cubes.get(contract.expiration)
        return 0 if cube is None else cube.end

    def settles_at(self, contract: ContractKey) -> int:
        """Epoch second at which a contract settles, recorded or not; the underlying itself never does."""
        cube = self.cubes.get(contract.expiration)
        if cube is not None:
            return cube.settlement_at
        if contract.is_unit:
            return NEVER_SETTLES
        date = self.calendar.on_or_before(contract.expiration)
        return self.calendar.settlement(date, self.underlying.on(date).settles)

    @cached_property
    def ends(self) -> tuple[npt.NDArray[np.int32], npt.NDArray[np.int32]]:
        """By snapshot: the minute of its session's last snapshot, where that is known without hindsight, and the
        minute at which times beyond it act: the last but one, which leaves one to be filled on."""
        ends, acts = np.full(len(self.dates), NEVER, np.int32), np.full(len(self.dates), NEVER, np.int32)
        for session, date in enumerate(self.dates):
            first, last = int(self.first[session]), int(self.first[session + 1]) - 1
            if self.is_single[first]:
                ends[session] = acts[session] = self.minute[first]
            elif date in self.calendar:
                step = self.step_minutes(session)
                local = self.calendar.local(self.calendar.session(date).close)
                close = local.hour * 60 + local.minute
                if self.unfinished and session == len(self.dates) - 1:
                    begun = int(self.minute[first])
                    ends[session] = begun + (close - begun) // step * step
                    acts[session] = ends[session] - step
                elif close - int(self.minute[last]) <= step:
                    ends[session], acts[session] = self.minute[last], self.minute[last - 1]
        return ends, acts

    def reached(self, minute: int, begin: int, end: int) -> npt.NDArray[np.bool_]:
        """Whether each snapshot of ``[begin, end)`` is at or after a time of day, ``(n,)``, for leaving: a time that
        comes with a session's last snapshot or after it is reached on the one before, where an order can still be filled
        in that session (semantics rule 1)."""
        whole = self._reached.get(minute)
        if whole is None:
            whole = self._reached[minute] = self.minute >= np.minimum(minute, self.ends[1])[self.session_of]
        return whole[begin:end]

    @cached_property
    def _reached(self) -> dict[int, npt.NDArray[np.bool_]]:
        """By time of day, what :meth:`reached` says of every snapshot."""
        return {}

    @cached_property
    def to_last(self) -> npt.NDArray[np.int32]:
        """On a session's last snapshot but one the minutes to the last, elsewhere 0, ``(snapshots,)``; of a session that is
        still being recorded as its calendar and step tell."""
        ends, acts = (minutes[self.session_of] for minutes in self.ends)
        return np.where((ends < NEVER) & (acts < ends) & (self.minute == acts), ends - acts, 0).astype(np.int32)

    def minute_in(self, session: int, minute: int) -> int:
        """The minute at which a time of day is looked at in a session: beyond its end the one at which orders can still be
        filled in it."""
        ends, acts = self.ends
        return int(acts[session]) if minute > ends[session] else minute

    @cached_property
    def tape(self) -> Tape | None:
        """What compiled loops read of it; ``None`` where its quotes do not lie behind one another."""
        return tape_of(self)

    @cached_property
    def computed(self) -> Kept:
        """What was computed from the whole timeline, kept for whoever asks again."""
        return Kept()

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

    @cached_property
    def dividends_at(self) -> dict[int, list[tuple[dt.date, int]]]:
        """Dividends by the first snapshot of the first recorded session at whose open they are gone: the day, and parts
        of a quantum."""
        out: dict[int, list[tuple[dt.date, int]]] = {}
        for date, amount in self.underlying.dividends:
            session = bisect_left(self.dates, date)
            if session < len(self.dates) and (session > 0 or date == self.dates[0]):
                parts = round(Decimal(str(amount)) * PARTS / self.underlying.quantum)
                out.setdefault(int(self.first[session]), []).append((date, parts))
        return out

    def next_dividend(self, index: int) -> int:
        """First snapshot from ``index`` on at which a dividend is gone; the end of the timeline without one."""
        return min((at for at in self.dividends_at if at >= index), default=len(self.times))

    def next_split(self, index: int) -> int:
        """First snapshot from ``index`` on with which a split holds; the end of the timeline without one."""
        return min((at for at in self.splits if at >= index), default=len(self.times))

    def next_first(self, index: int) -> int:
        """First snapshot from ``index`` on that is the first of its session; the end of the timeline without one."""
        return int(self.first[np.searchsorted(self.first, index)]) if index < len(self.times) else len(self.times)

    @cached_property
    def units(self) -> npt.NDArray[np.float64]:
        """Units of the underlying that one of the first session has become by each session, ``(sessions,)``: 1 without
        splits. What a session tells in points is told in those of a day by
        multiplying it by ``units[session] / units_on(day)``."""
        out = np.ones(len(self.dates))
        for index, split in self.splits.items():
            out[int(self.session_of[index]) :] *= split.ratio
        return out

    def units_on(self, date: dt.date) -> float:
        """The same on any day."""
        return math.prod(split.ratio for split in self.splits.values() if split.date <= date)

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


def splits_at(
    underlying: Underlying, dates: tuple[dt.date, ...], first: npt.NDArray[np.int64]
) -> dict[int, Split]:  # fmt: skip
    """Splits of an underlying by the first snapshot of the session from whose open on each holds; ``first``: where the
    sessions of ``dates`` begin."""
    out = {}
    for date, ratio in underlying.splits:
        session = bisect_left(dates, date)
        if 0 < session < len(dates):
            out[int(first[session])] = Split(date, ratio)
    return out


def _utc_offset(calendar: SessionCalendar, date: dt.date) -> int:
    offset = dt.datetime.combine(date, dt.time(12), calendar.tz).utcoffset()
    return int(offset.total_seconds()) if offset else 0
