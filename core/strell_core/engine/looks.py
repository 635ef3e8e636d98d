"""When an adjustment is looked at: when its entry is, at a time of its own, on every snapshot, or on something that
happened to a leg."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from strell_core.engine.state import TradeState
from strell_core.market.market import Market
from strell_core.market.timeline import Timeline
from strell_core.strategy import adjusting
from strell_core.strategy.document import Rule
from strell_core.strategy.kinds import Adjustment
from strell_core.strategy.schedule import DUE, Indices, Schedule


@dataclass(frozen=True)
class ActiveAdjustment:
    """An adjustment sentence with its looks."""

    rule: Rule
    kind: Adjustment
    schedule: Schedule
    every: bool = False
    """It is looked at on every snapshot."""
    gone: frozenset[str] = frozenset()
    """A leg that is gone in one of these ways is a look, from then until that session ends."""
    often: bool = False
    """It acts however often a trade was adjusted in the session."""
    further_only: bool = False
    """It acts as a further step of the adjustment before it only."""

    @classmethod
    def of(cls, rule: Rule, kind: Adjustment, entry: Schedule) -> ActiveAdjustment:
        """``entry``: when its trade's entry is looked at, which holds where the sentence says nothing."""
        own, upon = adjusting.schedule_of(rule.params, entry.decides_single), rule.params.get("upon")
        gone = frozenset(adjusting.GONE.get(str(upon), ()))
        often, only = kind.often or adjusting.is_often(rule.params), rule.params.get("only") is not None
        return cls(rule, kind, entry if own is None else own, upon == adjusting.EVERY, gone, often, only)

    def due(self, market: Market, index: int, trade: TradeState) -> bool:
        """Whether a snapshot is a look at a trade."""
        if self.further_only:
            return False
        if self.schedule.status(market, index) == DUE:
            return True
        if not (self.every or self.gone) or (market.main.is_single[index] and not self.schedule.decides_single):
            return False
        return self.every or self._on(market.main, index, trade)

    def _on(self, timeline: Timeline, index: int, trade: TradeState) -> bool:
        """Whether a leg is gone in this session, or after the last decisions of the one before."""
        session = int(timeline.session_of[index])
        for leg in trade.closed_legs:
            if leg.how in self.gone:
                at = int(np.searchsorted(timeline.times, leg.closed_at))
                if session in (int(timeline.session_of[at]), int(timeline.session_of[min(at + 1, index)])):
                    return True
        return False

    def ahead(self, market: Market, trade: TradeState, true: Callable[[], Indices], index: int, end: int) -> int:
        """First snapshot from ``index`` on at which it may act on a trade that stays as it is, times aside; ``end``:
        none. ``true()``: snapshots at which its condition holds of the trade, ascending."""
        timeline = market.main
        if self.further_only:
            return end
        if not self.often and index and trade.adjusted_on == market.date(index - 1):
            index = int(timeline.first[int(timeline.session_of[index - 1]) + 1])
        if index >= end:
            return end
        if self.gone and self._on(timeline, index, trade):
            return index
        if not self.every:
            return end
        places = true()
        at = int(np.searchsorted(places, index))
        return int(places[at]) if at < len(places) else end
