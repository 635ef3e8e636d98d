"""Several underlyings on one clock, and what is known of them at an instant (semantics rule 13)."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from strell_core.market.daily import DailyHistory
from strell_core.market.on_clock import OnClock, Places
from strell_core.market.series import DatedSeries
from strell_core.market.timeline import Timeline
from strell_core.market.view import ChainView


@dataclass(frozen=True)
class Market:
    """Timelines of several underlyings; the clock is that of ``main``, whose snapshots are what is looked at."""

    main: Timeline
    others: Mapping[str, Timeline] = field(default_factory=dict)
    """By symbol, without the main one."""
    series: Mapping[str, DatedSeries] = field(default_factory=dict)
    """Series of one's own, by name."""

    @property
    def identity(self) -> tuple[tuple[str, str], ...]:
        """Of all that it holds, the clock's history first: the same where nothing of it has changed."""
        others = ((name, there.digest) for name, there in sorted(self.others.items()))
        series = ((name, there.digest) for name, there in sorted(self.series.items()))
        return (self.main.underlying.symbol, self.main.digest), *others, *series

    def timeline(self, symbol: str = "") -> Timeline:
        """The recorded history of an underlying, of the main one without a symbol; raises ``KeyError`` when the
        market does not hold it."""
        return self.main if symbol in ("", self.main.underlying.symbol) else self.others[symbol]

    def on_clock(self, symbol: str = "") -> Timeline:
        """The history of an underlying by the snapshots of the clock; raises ``KeyError`` when the market does not hold
        it."""
        there = self.timeline(symbol)
        if there is self.main:
            return there
        known: tuple[Timeline, OnClock] | None = self.main.computed.get(("on clock", symbol))
        if known is None or known[0] is not there:
            known = self.main.computed["on clock", symbol] = (there, OnClock(there, self.main))
        return known[1]

    def places(self, begin: int, end: int, symbol: str = "") -> Places:
        """Where an underlying's timeline stands at snapshots ``[begin, end)`` of the clock: at its last snapshot not
        after each, within the session and a step of it; below 0 where there is none so near."""
        seen = self.on_clock(symbol)
        return seen.places[begin:end] if isinstance(seen, OnClock) else np.arange(begin, end)

    def date(self, index: int) -> dt.date:
        return self.main.dates[int(self.main.session_of[index])]

    def completed(self, begin: int, end: int, symbol: str = "") -> Places:
        """How many sessions of an underlying's timeline are completed when the session of each of the clock's snapshots
        ``[begin, end)`` begins."""
        there, clock = self.timeline(symbol), self.main
        if there is clock:
            return clock.session_of[begin:end].astype(np.int64)
        ordinals = [date.toordinal() for date in there.dates]
        return np.searchsorted(ordinals, clock.ordinal[begin:end]).astype(np.int64)


def market_of(history: Market | Timeline) -> Market:
    """A market, or one timeline as a market of its own."""
    return history if isinstance(history, Market) else Market(history)


class Observation:
    """A market at an instant: everything recorded up to and including snapshot ``index`` of its clock."""

    __slots__ = ("_views", "date", "index", "instant", "market", "session", "timeline")

    def __init__(self, history: Market | Timeline, index: int) -> None:
        self.market = market_of(history)
        self.timeline = self.market.main
        self.index = index
        self.instant = int(self.timeline.times[index])
        """Epoch second."""
        self.session = int(self.timeline.session_of[index])
        """Number of the clock's session."""
        self.date = self.timeline.dates[self.session]
        self._views: dict[str, ChainView | None] = {}

    def view(self, symbol: str = "") -> ChainView | None:
        """The chain of an underlying now; ``None`` where it has no snapshot near enough. Whoever asks again is given the
        same, with what was worked out of it."""
        if symbol not in self._views:
            seen = self.market.on_clock(symbol)
            self._views[symbol] = seen.view(self.index) if seen.recorded_at(self.index) >= 0 else None
        return self._views[symbol]

    def daily(self, symbol: str = "") -> DailyHistory:
        """Completed sessions of an underlying, as known now."""
        return self.market.timeline(symbol).daily.before(
            int(self.market.completed(self.index, self.index + 1, symbol)[0])
        )
