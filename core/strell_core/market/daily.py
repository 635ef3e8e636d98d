"""What completed sessions told, one value each: what daily measures are made from."""

from __future__ import annotations

import datetime as dt
from bisect import bisect_left
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from strell_core.market.splits import Split


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
    ranges: npt.NDArray[np.float64] | None = None
    """First, highest and lowest recorded price ``(3, n)``; NaN in sessions of a single snapshot. Nothing: not known."""
    traded: npt.NDArray[np.float64] | None = None
    """Contracts of puts and of calls that were traded in the session ``(2, n)``. Nothing: not known."""

    @property
    def open(self) -> npt.NDArray[np.float64]:
        return self._known(self.ranges, 0)

    @property
    def high(self) -> npt.NDArray[np.float64]:
        return self._known(self.ranges, 1)

    @property
    def low(self) -> npt.NDArray[np.float64]:
        return self._known(self.ranges, 2)

    @property
    def puts_traded(self) -> npt.NDArray[np.float64]:
        return self._known(self.traded, 0)

    @property
    def calls_traded(self) -> npt.NDArray[np.float64]:
        return self._known(self.traded, 1)

    def _known(self, rows: npt.NDArray[np.float64] | None, row: int) -> npt.NDArray[np.float64]:
        found: npt.NDArray[np.float64] = np.full(len(self.dates), np.nan) if rows is None else rows[row]
        return found

    def before(self, session: int) -> DailyHistory:
        """What was known when session number ``session`` of the timeline began, closes in the units of that day
        (semantics rule 2)."""
        known = self.earlier + session
        close, ranges = self.close[:known], None if self.ranges is None else self.ranges[:, :known]
        for split in self.splits:
            place = bisect_left(self.dates, split.date)
            if 0 < place <= known:
                close = close.copy()
                close[:place] /= split.ratio
                if ranges is not None:
                    ranges = ranges.copy()
                    ranges[:, :place] /= split.ratio
        traded = None if self.traded is None else self.traded[:, :known]
        return DailyHistory(self.dates[:known], close, self.atm_iv[:known], ranges=ranges, traded=traded)

    def unit_ends(self, sessions: int) -> list[int]:
        """Sessions of the timeline after which :meth:`before` gives closes in other units, and ``sessions``."""
        places = {bisect_left(self.dates, split.date) for split in self.splits}
        ends = {place - 1 - self.earlier for place in places if 0 < place <= len(self.dates)}
        return sorted({end for end in ends if 0 <= end < sessions} | {sessions})
