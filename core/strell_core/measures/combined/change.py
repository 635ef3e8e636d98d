"""How a market's value has changed: since the session before was over, or over some minutes of this one."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

import numpy as np

from strell_core.market.market import Market
from strell_core.market.timeline import Timeline
from strell_core.measures import values
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Frame
from strell_core.measures.measure import UNDERLYING, Measure, Params, Series, by_dates, measures

OF = Param("of", "value", "Of", {"measure": "iv_now"}, scopes=("market", "clock", "event", "series"))
SINCE = Declaration(
    id="change_since_session", usual=("above", 1), section="measure", title="Change since the session before",
    sentence="(the change of {of} since the session before)", params=(OF,),
    explains="A value now less the same at the last snapshot of the session before; of points both in today's units. Unvalued with either.",
    example="(the change of at-the-money IV over 30 days since the session before)", words=("difference", "yesterday", "overnight", "rise", "fall"),
    scope="combined", clock="snapshot", grid=0.0001,
)  # fmt: skip
MINUTES = Declaration(
    id="change_over_minutes", usual=("above", 1), section="measure", title="Change over minutes",
    sentence="(the change of {of} over {minutes} minutes)", params=(OF, Param("minutes", "integer", "Minutes", 30, 1, 480)),
    explains="A value now less the same at the last snapshot at least so many minutes before, within the session. Unvalued while the session is "
    "younger, and with either.",
    example="(the change of at-the-money IV over 30 days over 30 minutes)", words=("difference", "intraday", "momentum", "rise", "fall"), scope="combined",
    clock="snapshot", grid=0.0001,
)  # fmt: skip


def _symbol(symbol: str, params: Params) -> str:
    """The underlying whose sessions are counted: that which the value itself names."""
    return str(params["of"].get(UNDERLYING) or symbol)


@dataclass(frozen=True)
class SinceSession(Measure):
    def over(self, frame: Frame, params: Params) -> Series | None:
        out, symbol = np.full(frame.end - frame.begin, np.nan), _symbol(frame.symbol, params)
        completed = frame.market.completed(frame.begin, frame.end, symbol)
        for here, day in frame.by_units():
            day = frame.units_of or day
            part = Frame(frame.market, frame.begin + here.start, frame.begin + here.stop, frame.symbol, units_of=day)
            now = values.over(params["of"], part)
            if now is None:
                return None
            days = np.append(values.by_session(params["of"], frame.market, symbol, day), np.nan)
            # before the first session there is none
            out[here] = now - days[completed[here] - 1]
        return self.on_grid(out)

    def by_session(self, market: Market, symbol: str, params: Params, units_of: dt.date | None = None) -> Series:
        of, timeline = _symbol(symbol, params), market.timeline(_symbol(symbol, params))
        out = np.full(len(timeline.dates), np.nan)
        for begin, end in values.unit_sessions(params["of"], market, of):
            if begin < len(out):
                days = values.by_session(params["of"], market, of, units_of or timeline.dates[begin])
                out[begin:end] = np.diff(days, prepend=np.nan)[begin:end]
        return by_dates(self.on_grid(out), timeline, market.timeline(symbol))


@dataclass(frozen=True)
class OverMinutes(Measure):
    def over(self, frame: Frame, params: Params) -> Series | None:
        clock = frame.market.main
        before = _before(clock, int(params["minutes"]), frame.begin, frame.end)
        begin = min([frame.begin, *before[before >= 0].tolist()])
        found = values.over(params["of"], Frame(frame.market, begin, frame.end, frame.symbol, units_of=frame.units_of))
        if found is None:
            return None
        then = np.where(before >= 0, found[np.maximum(before - begin, 0)], np.nan)
        return self.on_grid(found[frame.begin - begin :] - then)

    def by_session(self, market: Market, symbol: str, params: Params, units_of: dt.date | None = None) -> Series:
        clock = market.main
        whole = self.over(Frame(market, 0, len(clock.times), symbol, units_of=units_of), params)
        ends = np.full(len(clock.dates), np.nan) if whole is None else whole[clock.first[1:] - 1]
        return by_dates(ends, clock, market.timeline(symbol))


def _before(clock: Timeline, minutes: int, begin: int, end: int) -> Series:
    """Of each snapshot of ``[begin, end)`` the last one at least so many minutes before it within its session; -1: none."""
    found = np.searchsorted(clock.times, clock.times[begin:end] - 60 * minutes, side="right") - 1
    first = clock.first[clock.session_of[begin:end]]
    return np.where(found >= first, found, -1)


measures.register(SinceSession(SINCE))
measures.register(OverMinutes(MINUTES))
