"""Statistics of a market's value over the last sessions."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

import numpy as np

from strell_core.market.market import Market
from strell_core.measures import values
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Frame
from strell_core.measures.measure import UNDERLYING, Measure, Params, Series, key_of, measures

KINDS = {
    "average": "average", "median": "median", "highest": "highest", "lowest": "lowest", "rank": "rank",
    "percentile": "percentile", "change": "change", "deviations": "deviations from the average",
}  # fmt: skip
DECLARATION = Declaration(
    id="statistic", usual=("below", {"measure": "atm_iv"}), section="measure", title="A statistic over sessions",
    sentence="the {which} over {sessions} sessions of {of}",
    params=(
        Param("which", "choice", "Statistic", "average", choices=KINDS),
        Param("of", "value", "Of", {"measure": "atm_iv"}, scopes=("market", "clock", "event", "series")),
        Param("sessions", "integer", "Sessions", 60, 2, 756),
    ),
    explains="Over the last completed sessions, a day's value being the one at its last snapshot. Rank: 100 × (latest − "
    "lowest) ÷ (highest − lowest). Percentile: share of the other days that lie below the latest, in percent. Change: "
    "latest less the one so many sessions before. Deviations: (latest − average) ÷ standard deviation (n − 1). Points of days "
    "before a split are told in those of today. Unvalued until the window is full, and with a day in it that has no value.",
    example="the average over 60 sessions of the 25-delta skew over 30 days", words=("rolling", "window", "z-score", "rank", "mean"),
    scope="combined", clock="session", grid=0.0001,
)  # fmt: skip


@dataclass(frozen=True)
class Statistic(Measure):
    def _known(self, market: Market, symbol: str, params: Params) -> Series:
        """By session, as known when it begins and in its units; one more than there are sessions."""
        timeline = market.timeline(symbol)
        key = (*key_of(self, params), *values.data_of(params, market))
        known: Series | None = timeline.computed.get(key)
        if known is None:
            known = np.full(len(timeline.dates) + 1, np.nan)
            for begin, end in values.unit_sessions(params["of"], market, symbol):
                # between two splits all days have the same units, so one series serves the sessions there
                known[begin:end] = self._made(market, symbol, params, timeline.dates[begin])[begin:end]
            timeline.computed[key] = known
        return known

    def _made(self, market: Market, symbol: str, params: Params, units_of: dt.date | None) -> Series:
        """The same in the units of one day."""
        days = values.by_session(params["of"], market, symbol, units_of)
        made = np.full(len(days) + 1, np.nan)
        n, which = int(params["sessions"]), params["which"]
        if which == "change":
            if len(days) > n:
                made[n + 1 :] = days[n:] - days[:-n]
        elif len(days) >= n:
            made[n:] = _of_windows(which, np.lib.stride_tricks.sliding_window_view(days, n))
        return self.on_grid(made)

    def _symbol(self, frame_symbol: str, params: Params) -> str:
        """The underlying whose sessions are counted: that which the value itself names."""
        return str(params["of"].get(UNDERLYING) or frame_symbol)

    def over(self, frame: Frame, params: Params) -> Series:
        symbol = self._symbol(frame.symbol, params)
        known = (
            self._known(frame.market, symbol, params)
            if frame.units_of is None
            else self._made(frame.market, symbol, params, frame.units_of)
        )
        return known[frame.market.completed(frame.begin, frame.end, symbol)]

    def by_session(self, market: Market, symbol: str, params: Params, units_of: dt.date | None = None) -> Series:
        of = self._symbol(symbol, params)
        made = self._known(market, of, params) if units_of is None else self._made(market, of, params, units_of)
        return made[1:]


def _of_windows(which: str, windows: Series) -> Series:
    """One statistic of each window ``(m, n)``."""
    last = windows[:, -1]
    if which == "average":
        return windows.mean(axis=1)
    if which == "median":
        made: Series = np.median(windows, axis=1)
        return made
    if which == "highest":
        return windows.max(axis=1)
    if which == "lowest":
        return windows.min(axis=1)
    full = ~np.isnan(windows).any(axis=1)
    if which == "percentile":
        below = (windows[:, :-1] < last[:, None]).mean(axis=1)
        return np.where(full, 100 * below, np.nan)
    if which == "rank":
        low, high = windows.min(axis=1), windows.max(axis=1)
        return 100 * (last - low) / np.where(high > low, high - low, np.nan)
    spread = windows.std(axis=1, ddof=1)
    return (last - windows.mean(axis=1)) / np.where(spread > 0, spread, np.nan)


measures.register(Statistic(DECLARATION))
