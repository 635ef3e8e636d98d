"""Indicators over sessions, or over bars of so many minutes that are made of recorded snapshots.

A bar ends with the snapshot that reaches its last minute, counted from the session's first snapshot; what a bar tells
is known with that snapshot. Sessions with a single snapshot have no bars. Averages run over session ends without a
gap.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from strell_core.market.daily import DailyHistory
from strell_core.market.prices import SPOT_SCALE
from strell_core.market.timeline import Timeline
from strell_core.measures.declaration import Param
from strell_core.measures.measure import MarketMeasure, Params, Series

BARS = Param(
    "bars", "choice", "Of", "session",
    choices={
        "session": "sessions", "5": "bars of 5 minutes", "15": "bars of 15 minutes", "30": "bars of 30 minutes",
        "60": "bars of 60 minutes",
    },
)  # fmt: skip


class Bars(NamedTuple):
    """Prices ``(n,)`` of sessions or bars; of sessions with one snapshot only the close is known."""

    open: Series
    high: Series
    low: Series
    close: Series


@dataclass(frozen=True)
class Indicator(MarketMeasure):
    """``series(bars, params)``, one value a session or bar."""

    series: Callable[[Bars, Params], Series]

    def clock(self, params: Params) -> str:
        return "session" if params.get("bars", "session") == "session" else "snapshot"

    def known(self, timeline: Timeline, params: Params) -> Series:
        if self.clock(params) == "session":
            return _OfSessions(self.declaration, self.of_history).known(timeline, params)
        return _OfSnapshots(self.declaration, self._of_snapshots).known(timeline, params)

    def value(self, history: DailyHistory, params: Params) -> float | None:
        return _OfSessions(self.declaration, self.of_history).value(history, params)

    def of_history(self, history: DailyHistory, params: Params) -> Series:
        return self.series(Bars(history.open, history.high, history.low, history.close.astype(np.float64)), params)

    def _of_snapshots(self, timeline: Timeline, params: Params) -> Series:
        bars, ends = bars_of(timeline, int(params["bars"]))
        out = np.full(len(timeline.times), np.nan)
        if len(ends) == 0:
            return out
        last = np.searchsorted(ends, np.arange(len(out)), side="right") - 1
        # between two splits prices have the same units, so one series serves all snapshots there
        for units in np.unique(timeline.units).tolist():
            scale = timeline.units[timeline.session_of[ends]] / units
            values = self.series(Bars(*(prices * scale for prices in bars)), params)
            here = (timeline.units[timeline.session_of] == units) & (last >= 0)
            out[here] = values[last[here]]
        out[timeline.is_single] = np.nan
        return out


class _OfSessions(MarketMeasure):
    """An indicator on sessions, whatever its declaration says of the clock."""

    def clock(self, params: Params) -> str:
        return "session"


class _OfSnapshots(MarketMeasure):
    """The same on bars."""

    def clock(self, params: Params) -> str:
        return "snapshot"


def bars_of(timeline: Timeline, minutes: int) -> tuple[Bars, npt.NDArray[np.int64]]:
    """Complete bars of a timeline, and the snapshots they end with."""
    key = ("bars", minutes)
    found: tuple[Bars, npt.NDArray[np.int64]] | None = timeline.computed.get(key)
    if found is None:
        rows: list[tuple[float, float, float, float]] = []
        ends: list[int] = []
        for session in range(len(timeline.dates)):
            a, b = int(timeline.first[session]), int(timeline.first[session + 1])
            if b - a < 2:
                continue
            since = timeline.minute[a:b] - timeline.minute[a]
            begin = a
            for index in range(a + 1, b):
                if since[index - a] // minutes > since[begin - a] // minutes and since[index - a] % minutes == 0:
                    price = timeline.spot[begin : index + 1] / SPOT_SCALE
                    rows.append((float(price[0]), float(price.max()), float(price.min()), float(price[-1])))
                    ends.append(index)
                    begin = index
        columns = np.array(rows, np.float64).reshape(-1, 4).T
        found = timeline.computed[key] = (Bars(*columns), np.array(ends, np.int64))
    return found
