"""Several underlyings on one clock, and what is known of them at an instant (semantics rule 13)."""

from __future__ import annotations

import datetime as dt
from bisect import bisect_left, bisect_right
from collections.abc import Mapping
from dataclasses import dataclass, field

from strell_core.market.daily import DailyHistory
from strell_core.market.series import DatedSeries
from strell_core.market.timeline import ChainView, Timeline


@dataclass(frozen=True)
class Market:
    """Timelines of several underlyings; the clock is that of ``main``, whose snapshots are what is looked at."""

    main: Timeline
    others: Mapping[str, Timeline] = field(default_factory=dict)
    """By symbol, without the main one."""
    series: Mapping[str, DatedSeries] = field(default_factory=dict)
    """Series of one's own, by name."""

    def timeline(self, symbol: str = "") -> Timeline:
        """The recorded history of an underlying, of the main one without a symbol; raises ``KeyError`` when the
        market does not hold it."""
        return self.main if symbol in ("", self.main.underlying.symbol) else self.others[symbol]

    def place(self, index: int, symbol: str = "") -> int | None:
        """Where an underlying's timeline stands at snapshot ``index`` of the clock: at its last snapshot not after
        it, within the session and a step of it; ``None`` where there is none so near."""
        there = self.timeline(symbol)
        if there is self.main:
            return index
        now = int(self.main.times[index])
        found = bisect_right(there.times, now) - 1
        if found < 0:
            return None
        session = int(there.session_of[found])
        if there.dates[session] != self.date(index):
            return None
        age = there.step_minutes(session) * 60
        return found if there.is_single[found] or now - int(there.times[found]) <= age else None

    def date(self, index: int) -> dt.date:
        return self.main.dates[int(self.main.session_of[index])]

    def sessions_before(self, index: int, symbol: str = "") -> int:
        """How many sessions of an underlying's timeline are completed when the clock's session begins."""
        there = self.timeline(symbol)
        return int(there.session_of[index]) if there is self.main else bisect_left(there.dates, self.date(index))


def market_of(history: Market | Timeline) -> Market:
    """A market, or one timeline as a market of its own."""
    return history if isinstance(history, Market) else Market(history)


class Observation:
    """A market at an instant: everything recorded up to and including snapshot ``index`` of its clock."""

    __slots__ = ("date", "index", "instant", "market", "session", "timeline")

    def __init__(self, history: Market | Timeline, index: int) -> None:
        self.market = market_of(history)
        self.timeline = self.market.main
        self.index = index
        self.instant = int(self.timeline.times[index])
        """Epoch second."""
        self.session = int(self.timeline.session_of[index])
        """Number of the clock's session."""
        self.date = self.timeline.dates[self.session]

    def view(self, symbol: str = "") -> ChainView | None:
        """The chain of an underlying now; ``None`` where it has no snapshot near enough."""
        at = self.market.place(self.index, symbol)
        return None if at is None else self.market.timeline(symbol).view(at)

    def daily(self, symbol: str = "") -> DailyHistory:
        """Completed sessions of an underlying, as known now."""
        return self.market.timeline(symbol).daily.before(self.market.sessions_before(self.index, symbol))
