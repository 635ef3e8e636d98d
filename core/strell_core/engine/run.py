"""Running a strategy over history, snapshot by snapshot or in blocks.

Both ways call :func:`advance`; blocks call it only where something can happen. In between, a trade's
structure does not change, so exits are array functions over the whole stretch and the engine jumps to
the first snapshot at which one is true.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from functools import partial
from typing import Any

import numpy as np

from strell_core.engine.advance import advance, apply_fills
from strell_core.engine.capital import CENT, funds_over, next_close
from strell_core.engine.changed import changed
from strell_core.engine.exits import first_true, waiting
from strell_core.engine.fills import first_event, match
from strell_core.engine.looks import ActiveAdjustment
from strell_core.engine.marks import stretch, with_best, with_paths
from strell_core.engine.plan import Plan
from strell_core.engine.settlement import settlement_parts
from strell_core.engine.state import Advanced, ClosedTrade, EngineState, LedgerEntry, Need, Order, Reason, TradeState
from strell_core.market.market import Market, Observation, market_of
from strell_core.market.timeline import Timeline
from strell_core.measures.frames import TRUE, Stretch
from strell_core.strategy.schedule import Indices

Progress = Callable[[int], None]
"""Called with the timeline index reached; may raise to stop the run."""


@dataclass
class History:
    """Everything a run brought about, in order."""

    state: EngineState
    reasons: list[Reason] = field(default_factory=list)
    entries: list[LedgerEntry] = field(default_factory=list)
    closed: list[ClosedTrade] = field(default_factory=list)
    intents: list[Order] = field(default_factory=list)
    needs: list[Need] = field(default_factory=list)
    """At the end of every session with an open trade."""
    ruined_at: int | None = None
    """When all equity was lost, and the run ended."""

    def take(self, advanced: Advanced) -> None:
        self.state = advanced.state
        self.reasons += advanced.reasons
        self.entries += advanced.entries
        self.closed += advanced.closed
        self.intents += advanced.intents
        self.needs += advanced.needs

    def extend(self, later: History) -> None:
        """Go on with what came after."""
        self.state, self.ruined_at = later.state, later.ruined_at
        self.reasons += later.reasons
        self.entries += later.entries
        self.closed += later.closed
        self.intents += later.intents
        self.needs += later.needs


def run_steps(
    plan: Plan, history: Market | Timeline, begin: int, end: int, cash: Decimal, progress: Progress | None = None,
    state: EngineState | None = None, until_ruin: bool = False,
) -> History:  # fmt: skip
    """Every snapshot of ``[begin, end)``, one after another; ``state`` goes on from an earlier run. ``until_ruin``: it
    ends when equity is lost."""
    market, out = market_of(history), History(state or EngineState(cash))
    for index in range(begin, end):
        if progress is not None:
            progress(index)
        step(plan, market, index, out)
        if until_ruin and _ruined(market.main, index, out):
            break
    return out


def run_blocks(
    plan: Plan, history: Market | Timeline, begin: int, end: int, cash: Decimal, progress: Progress | None = None,
    state: EngineState | None = None, until_ruin: bool = False,
) -> History:  # fmt: skip
    """The same as :func:`run_steps`, jumping over snapshots in which nothing can happen."""
    market, out = market_of(history), History(state or EngineState(cash))
    looks = plan.looks(market, begin, end)
    exits: dict[int, _Ahead] = {}
    index = begin
    while index < end:
        if progress is not None:
            progress(index)
        step(plan, market, index, out)
        if until_ruin and _ruined(market.main, index, out):
            break
        after = _next_event(plan, market, out.state, index + 1, end, looks, exits)
        after = _watched(market, out, index + 1, after)
        out.state = _skip(plan, market, out.state, index + 1, after, exits)
        index = after
    return out


@dataclass(frozen=True)
class _Ahead:
    """What lies ahead of a trade as it is: its marks up to where it may change, and its first exit."""

    about: Any
    """All of the trade that this rests on."""
    first: int
    begin: int
    marks: Stretch | None
    adjusting: dict[str, Indices] = field(default_factory=dict)
    """By adjustment, where its condition holds."""

    def true(self, item: ActiveAdjustment) -> Indices:
        """Snapshots of the marks at which an adjustment's condition holds."""
        if self.marks is None:
            return np.empty(0, np.int64)
        found = self.adjusting.get(item.rule.id)
        if found is None:
            held = item.kind.test(self.marks, item.rule.params) == TRUE
            found = self.adjusting[item.rule.id] = self.begin + np.flatnonzero(held)
        return found


def _ruined(timeline: Timeline, index: int, out: History) -> bool:
    """Whether equity is lost: at a session's end with open trades, and at any time without."""
    now = int(timeline.times[index])
    last = out.needs[-1] if out.needs and out.needs[-1].at == now else None
    lost = last.equity <= 0 if last else not out.state.trades and out.state.cash <= 0
    if lost:
        out.ruined_at = now
    return lost


def step(plan: Plan, history: Market | Timeline, index: int, out: History) -> None:
    """Fills, decisions, and fills on the same snapshot in sessions that have only one."""
    observation = Observation(history, index)
    market = observation.market
    out.take(advance(plan, out.state, observation, match(plan, out.state.orders, market, index)))
    assigned = plan.delivers and bool(out.state.trades)
    if market.main.is_single[index] and (out.state.orders or assigned):
        fills = match(plan, out.state.orders, market, index, same=True)
        out.take(apply_fills(plan, out.state, observation, fills))


def _next_event(
    plan: Plan, market: Market, state: EngineState, index: int, end: int, looks: np.ndarray,
    exits: dict[int, _Ahead],
) -> int:  # fmt: skip
    """First snapshot from ``index`` on at which :func:`advance` may do more than mark positions: the earliest that
    any look, order, exit, settlement or split offers."""
    if any(not due.later for due in state.due) or (plan.watches and state.trades):
        return min(index, end)
    timeline = market.main
    at = int(np.searchsorted(looks, index))
    candidates = [int(looks[at]) if at < len(looks) else end]
    candidates += [first_event(plan, market, order, index, end) for order in state.orders]
    if state.trades and plan.delivers:
        # shorts may be assigned at the end of a session
        candidates.append(next_close(timeline, index))
    for trade in state.trades:
        own = market.on_clock(trade.symbol)
        candidates.append(own.next_split(index))
        if any(leg.contract.is_unit for leg in trade.legs):
            candidates.append(own.next_dividend(index))
        closing = [order for order in state.orders if order.purpose == "close" and order.trade == trade.number]
        waits = waiting(own, trade, int(timeline.times[min(index, end - 1)]))
        if any(order.whole for order in closing) or len(waits) == len(trade.legs):
            candidates.append(settlement_index(own, trade, index))
            continue
        working = frozenset(leg.leg_id for order in closing for leg in order.legs) | waits
        about = (*_marked_by(trade), trade.stops, trade.acted, working)
        known = exits.get(trade.number)
        if known is None or known.about != about or known.first < index:
            known = exits[trade.number] = _ahead(plan, market, trade, working, index, end, about)
        candidates.append(known.first)
        if "adjust" in plan.acts:
            adjustments = plan.entry(trade.entry).adjustments
            candidates += [item.ahead(market, trade, partial(known.true, item), index, end) for item in adjustments]
    return min([*candidates, end])


def _watched(market: Market, out: History, index: int, after: int) -> int:
    """Note what trades need at the ends of sessions in ``[index, after)``, as :func:`advance` would; the first at which
    it would do more than that is where to go on."""
    state, closes, timeline = out.state, [], market.main
    close = next_close(timeline, index) if state.trades else after
    while close < after:
        closes.append(close)
        close = next_close(timeline, close + 1)
    if not closes:
        return after
    for close, now in zip(
        closes, funds_over(market, closes, float(state.cash), state.trades, state.orders), strict=True
    ):
        if now.free <= -CENT or now.equity <= 0:
            return close
        out.needs.append(Need(int(timeline.times[close]), now.equity, now.needed))
        date = timeline.dates[int(timeline.session_of[close])]
        state = out.state = changed(state, record=state.record.closed(date, now.equity))
    return after


def _marked_by(trade: TradeState) -> tuple[Any, ...]:
    """What of a trade its marks rest on, but for the best so far: that is known from them."""
    return trade.legs_held, trade.realised, trade.opening


def _ahead(
    plan: Plan, market: Market, trade: TradeState, working: frozenset[str], index: int, end: int, about: Any
) -> _Ahead:
    timeline = market.on_clock(trade.symbol)
    stop = min(end, settlement_index(timeline, trade, index), timeline.next_split(index))
    first, marks = max(index, min(stop, end)), None
    if index < stop:
        marks = stretch(plan, trade, market, index, stop)
        place = first_true(plan, trade, marks, working) if "leave" in plan.acts else None
        first = first if place is None else index + place
    return _Ahead(about, first, index, marks)


def settlement_index(timeline: Timeline, trade: TradeState, index: int) -> int:
    """First snapshot from ``index`` on at which a leg of the trade settles; the end of the timeline without one.
    Legs that settled before and still wait for their value are none; one that was dealt at its settlement is due."""
    settles = [timeline.settles_at(leg.contract) for leg in trade.legs]
    before = int(timeline.times[index - 1]) if index else 0
    if any(settlement_parts(timeline, leg.contract, before) is not None for leg in trade.legs):
        return index
    to_come = [at for at in settles if at > before]
    return int(np.searchsorted(timeline.times, min(to_come))) if to_come else len(timeline.times)


def _skip(
    plan: Plan, market: Market, state: EngineState, index: int, after: int, exits: Mapping[int, _Ahead]
) -> EngineState:
    """Carry trades' paths over skipped snapshots ``[index, after)``."""
    if after <= index or not state.trades:
        return state
    trades = []
    for trade in state.trades:
        known = exits.get(trade.number)
        marks = None if known is None or known.about[:3] != _marked_by(trade) else known.marks
        if known is not None and marks is not None and not plan.looks_at_legs and after - known.begin <= len(marks.mid):
            trades.append(with_best(trade, int(marks.best[after - 1 - known.begin])))
        else:
            trades.append(with_paths(plan, trade, stretch(plan, trade, market, index, after)))
    return changed(state, trades=tuple(trades))
