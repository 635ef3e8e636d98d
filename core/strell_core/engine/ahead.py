"""What lies ahead of an open trade as it is: its marks up to where it may change, and its first exit. Blocks jump by it, and
leave in peace what nothing becomes of."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from strell_core.engine.changed import changed
from strell_core.engine.exits import first_true
from strell_core.engine.looks import ActiveAdjustment
from strell_core.engine.marks import stretch, with_best, with_paths
from strell_core.engine.plan import Plan
from strell_core.engine.settlement import settlement_parts
from strell_core.engine.state import EngineState, TradeState
from strell_core.market.market import Market
from strell_core.market.timeline import Timeline
from strell_core.measures.frames import TRUE, Stretch
from strell_core.strategy.schedule import Indices


@dataclass(frozen=True)
class Ahead:
    """What lies ahead of a trade from snapshot ``begin`` on."""

    trade: TradeState
    """As it was then."""
    working: frozenset[str]
    """Legs that an order was closing, or that waited for their settlement value."""
    first: int
    begin: int
    marks: Stretch | None
    plain: bool
    """Only its exits, its settlement and splits make anything of it: it has no adjustments, no units, no leg at work."""
    adjusting: dict[str, Indices] = field(default_factory=dict)
    """By adjustment, where its condition holds."""

    @classmethod
    def of(cls, plan: Plan, market: Market, trade: TradeState, working: frozenset[str], index: int, end: int) -> Ahead:
        timeline = market.on_clock(trade.symbol)
        stop = min(end, settlement_index(timeline, trade, index), timeline.next_split(index))
        first, marks = max(index, min(stop, end)), None
        if index < stop:
            marks = stretch(plan, trade, market, index, stop)
            place = first_true(plan, trade, marks, working) if "leave" in plan.acts else None
            first = first if place is None else index + place
        adjusts = "adjust" in plan.acts and plan.entry(trade.entry).adjustments
        plain = not working and not adjusts and not any(leg.contract.is_unit for leg in trade.legs)
        return cls(trade, working, first, index, marks, plain)

    def marked_as(self, trade: TradeState) -> bool:
        """Whether a trade still is what its marks rest on, but for the best so far: that is known from them."""
        was = self.trade
        same = was.legs is trade.legs or was.legs_held == trade.legs_held
        return same and was.realised == trade.realised and was.opening == trade.opening

    def same(self, trade: TradeState) -> bool:
        """Whether its first exit is still that of the trade."""
        was = self.trade
        return was is trade or (self.marked_as(trade) and was.stops == trade.stops and was.acted == trade.acted)

    def holds(self, trade: TradeState, index: int) -> bool:
        """Whether nothing becomes of the trade before its first exit, from a snapshot on."""
        return self.plain and self.first >= index and self.same(trade)

    def true(self, item: ActiveAdjustment) -> Indices:
        """Snapshots of the marks at which an adjustment's condition holds."""
        if self.marks is None:
            return np.empty(0, np.int64)
        found = self.adjusting.get(item.rule.id)
        if found is None:
            held = item.kind.test(self.marks, item.rule.params) == TRUE
            found = self.adjusting[item.rule.id] = self.begin + np.flatnonzero(held)
        return found


Known = dict[int, Ahead]
"""By the number of a trade."""


def quiet(plan: Plan, state: EngineState, index: int, ahead: Known) -> dict[int, int]:
    """Trades of which nothing becomes on a snapshot, with their highest P/L by then."""
    if plan.delivers or plan.watches or plan.looks_at_legs or plan.remembers or plan.remembers_account:
        return {}
    busy, out = {order.trade for order in state.orders}, {}
    for trade in state.trades:
        known = ahead.get(trade.number)
        if known is not None and known.marks is not None and trade.number not in busy and known.holds(trade, index + 1):
            out[trade.number] = int(known.marks.best[index - known.begin])
    return out


def skip(
    plan: Plan, market: Market, state: EngineState, index: int, after: int, ahead: Mapping[int, Ahead]
) -> EngineState:
    """Carry trades' paths over skipped snapshots ``[index, after)``."""
    if after <= index or not state.trades:
        return state
    trades, whole = [], plan.looks_at_legs or plan.remembers
    for trade in state.trades:
        known = ahead.get(trade.number)
        marks = None if known is None or not known.marked_as(trade) else known.marks
        if known is not None and marks is not None and not whole and after - known.begin <= len(marks.mid):
            trades.append(with_best(trade, int(marks.best[after - 1 - known.begin])))
        else:
            trades.append(with_paths(plan, trade, stretch(plan, trade, market, index, after)))
    return changed(state, trades=tuple(trades))


def settlement_index(timeline: Timeline, trade: TradeState, index: int) -> int:
    """First snapshot from ``index`` on at which a leg of the trade settles; the end of the timeline without one.
    Legs that settled before and still wait for their value are none; one that was dealt at its settlement is due."""
    settles = [timeline.settles_at(leg.contract) for leg in trade.legs]
    before = int(timeline.times[index - 1]) if index else 0
    if any(settlement_parts(timeline, leg.contract, before) is not None for leg in trade.legs):
        return index
    to_come = [at for at in settles if at > before]
    return int(np.searchsorted(timeline.times, min(to_come))) if to_come else len(timeline.times)
