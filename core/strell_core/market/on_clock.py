"""A history as it is seen from another's clock: at every snapshot of the clock what was last recorded of it, as long as
that is near enough (semantics rule 13)."""

from __future__ import annotations

import dataclasses
import datetime as dt
from bisect import bisect_left
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from strell_core.market.instruments import ContractKey
from strell_core.market.kept import Kept
from strell_core.market.timeline import NO_PRICE, NOTHING, ExpirationCube, Timeline, splits_at

UNSEEN = -1
"""The place of what is not seen."""
Places = npt.NDArray[np.int64]


def places(there: Timeline, clock: Timeline) -> Places:
    """Where a timeline stands at every snapshot of a clock, ``(snapshots,)``: at its last snapshot not after it, within
    the session and a step of it; :data:`UNSEEN` where there is none so near."""
    found = np.searchsorted(there.times, clock.times, side="right").astype(np.int64) - 1
    at = np.maximum(found, 0)
    same_day = there.ordinal[at] == clock.ordinal
    steps = np.array([there.step_minutes(session) * 60 for session in range(len(there.dates))], np.int64)
    near = there.is_single[at] | (clock.times - there.times[at] <= steps[there.session_of[at]])
    return np.where((found >= 0) & same_day & near, found, UNSEEN)


class SeenGrid:
    """A grid ``(contracts, snapshots)`` read by the clock's snapshots with ``grid[rows, columns]``: rows a number, a slice
    or an array, columns a number or a slice without a step."""

    def __init__(self, grid: Any, places: Places, nothing: int) -> None:
        self._grid, self._places, self._nothing = grid, places, nothing
        self.shape = (grid.shape[0], len(places))
        self.dtype = grid.dtype

    def __getitem__(self, where: tuple[Any, Any]) -> Any:
        rows, columns = where
        if not isinstance(columns, slice):
            at = int(self._places[columns])
            if at >= 0:
                return self._grid[rows, at]
            return np.full(self.shape[0], self._nothing, self.dtype)[rows]
        wanted = self._places[columns]
        seen = wanted >= 0
        out = np.full((*np.shape(np.empty(self.shape[0], np.bool_)[rows]), len(wanted)), self._nothing, self.dtype)
        if seen.any():
            low, high = int(wanted[seen].min()), int(wanted[seen].max()) + 1
            out[..., seen] = self._grid[rows, low:high][..., wanted[seen] - low]
        return out


class OnClock(Timeline):
    """A timeline by the snapshots and sessions of another. What is not seen at a snapshot has no quotes there; the
    underlying's price is the last one known."""

    def __init__(self, there: Timeline, clock: Timeline) -> None:
        self.there, self.clock = there, clock
        self.underlying, self.calendar, self.daily = there.underlying, there.calendar, there.daily
        self.dates, self.first, self.times = clock.dates, clock.first, clock.times
        self.session_of, self.minute, self.ordinal = clock.session_of, clock.minute, clock.ordinal
        self.is_single, self.is_last, self.last_of_several = clock.is_single, clock.is_last, clock.last_of_several
        self.unfinished, self._session_index = clock.unfinished, clock._session_index
        self.digest = f"{there.digest} on {clock.digest}"
        self.of_snapshots = Kept()
        self.places = places(there, clock)
        """Of every snapshot, where the timeline stands; below 0: it is not seen."""
        self._last = np.maximum.accumulate(self.places)
        """The same, the last place carried on."""
        self.splits = splits_at(there.underlying, clock.dates, clock.first)
        self.spot = self._prices()
        official = [there.official(date) for date in clock.dates]
        self.settlement = np.array([-1 if value is None else value for value in official], np.int32)
        self.cubes = {date: self._seen(cube) for date, cube in there.cubes.items()}
        sizes = there.sizes
        self.sizes = None if sizes is None else lambda contract, at: sizes(contract, self._recorded(at))

    def _prices(self) -> npt.NDArray[np.int32]:
        """The last price known at every snapshot, in the units of then: what is carried over a split is divided by it."""
        spot: npt.NDArray[np.int32] = self.there.spot[np.maximum(self._last, 0)]
        for at, split in self.splits.items():
            begins = int(self.there.first[bisect_left(self.there.dates, split.date)])
            old = np.arange(len(spot)) >= at
            old &= self._last < begins
            spot[old] = np.rint(spot[old] / split.ratio).astype(np.int32)
        return spot

    def _recorded(self, instant: int) -> int:
        """When what is seen at an epoch second was recorded."""
        return self.recorded_at(self.at_or_before(instant))

    def _seen(self, cube: ExpirationCube) -> ExpirationCube:
        start, end = (int(np.searchsorted(self._last, at)) for at in (cube.start, cube.end))
        own = self.places[start:end] - cube.start
        # a place carried over from before the expiration was listed is none of it
        own = np.where((own >= 0) & (own < cube.end - cube.start), own, UNSEEN)
        grids: dict[str, Any] = {name: SeenGrid(getattr(cube, name), own, nothing) for name, nothing in NOTHING.items()}
        forward = np.where(own >= 0, cube.forward[np.maximum(own, 0)], np.nan) if end > start else np.empty(0)
        session = int(self.session_of[start]) if start < len(self.times) else len(self.dates)
        sessions = self.there.session_of[np.maximum(self._last[self.first[1:] - 1], 0)][session:]
        known = np.clip(sessions - cube.first_session, 0, cube.open_interest.shape[1] - 1)
        until = int(self.session_of[end - 1]) + 1 - session if end > start else 0
        return dataclasses.replace(
            cube, start=start, forward=forward, open_interest=cube.open_interest[:, known[:until]], first_session=session,
            **grids,
        )  # fmt: skip

    def quotes(
        self, contract: ContractKey, begin: int, end: int
    ) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
        bid, ask = super().quotes(contract, begin, end)
        if contract.is_unit:
            bid = ask = np.where(self.places[begin:end] >= 0, bid, NO_PRICE)
        return bid, ask

    def quote_at(self, contract: ContractKey, index: int) -> tuple[int, int]:
        if contract.is_unit and self.places[index] < 0:
            return NO_PRICE, NO_PRICE
        return super().quote_at(contract, index)

    def recorded_at(self, index: int) -> int:
        place = int(self.places[index])
        return -1 if place < 0 else int(self.there.times[place])

    def recorded_anew(self, begin: int, end: int) -> npt.NDArray[np.int64]:
        places = self.places[begin : max(begin, end)]
        before = self.places[begin - 1] if begin else UNSEEN
        new = (places >= 0) & (places != np.concatenate([[before], places[:-1]])) if len(places) else places >= 0
        return begin + np.flatnonzero(new)

    def recorded_after(self, instant: int) -> int:
        return int(np.searchsorted(self._last, self.there.recorded_after(instant)))

    def official(self, date: dt.date) -> int | None:
        return self.there.official(date)

    @cached_property
    def ends(self) -> tuple[npt.NDArray[np.int32], npt.NDArray[np.int32]]:
        return self.clock.ends
