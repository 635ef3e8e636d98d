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

import numpy as np

from strell_core.engine.advance import advance, apply_fills
from strell_core.engine.ahead import Ahead, Known, quiet, settlement_index, skip
from strell_core.engine.capital import CENT, funds_over, next_close
from strell_core.engine.changed import changed
from strell_core.engine.exits import waiting
from strell_core.engine.fills import first_event, match
from strell_core.engine.interest import booked
from strell_core.engine.plan import Plan
from strell_core.engine.state import Advanced, ClosedTrade, EngineState, LedgerEntry, Need, Order, Reason
from strell_core.engine.step import NONE_QUIET
from strell_core.market.market import Market, Observation, market_of
from strell_core.market.timeline import Timeline

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
    exits: Known = {}
    index = begin
    while index < end:
        if progress is not None:
            progress(index)
        step(plan, market, index, out, quiet(plan, out.state, index, exits))
        if until_ruin and _ruined(market.main, index, out):
            break
        after = _next_event(plan, market, out.state, index + 1, end, looks, exits)
        after = _watched(market, out, index + 1, after)
        out.state = skip(plan, market, out.state, index + 1, after, exits)
        index = after
    return out


def _ruined(timeline: Timeline, index: int, out: History) -> bool:
    """Whether equity is lost: at a session's end with open trades, and at any time without."""
    now = int(timeline.times[index])
    last = out.needs[-1] if out.needs and out.needs[-1].at == now else None
    lost = last.equity <= 0 if last else not out.state.trades and out.state.cash <= 0
    if lost:
        out.ruined_at = now
    return lost


def step(
    plan: Plan, history: Market | Timeline, index: int, out: History, quiet: Mapping[int, int] = NONE_QUIET
) -> None:  # fmt: skip
    """Fills, decisions, and fills on the same snapshot in sessions that have only one. ``quiet``: see :func:`advance`."""
    observation = Observation(history, index)
    market = observation.market
    if plan.earns_interest and out.state.interest_to != observation.date:
        out.take(booked(plan, out.state, observation))
    out.take(advance(plan, out.state, observation, match(plan, out.state.orders, market, index), quiet))
    assigned = plan.delivers and bool(out.state.trades)
    if market.main.is_single[index] and (out.state.orders or assigned):
        fills = match(plan, out.state.orders, market, index, same=True)
        out.take(apply_fills(plan, out.state, observation, fills))


def _next_event(
    plan: Plan, market: Market, state: EngineState, index: int, end: int, looks: np.ndarray,
    exits: Known,
) -> int:  # fmt: skip
    """First snapshot from ``index`` on at which :func:`advance` may do more than mark positions: the earliest that
    any look, order, exit, settlement or split offers."""
    watched = plan.remembers_account or (plan.watches and state.trades)
    if watched or any(not due.later for due in state.due):
        return min(index, end)
    timeline = market.main
    at = int(np.searchsorted(looks, index))
    candidates = [int(looks[at]) if at < len(looks) else end]
    candidates += [first_event(plan, market, order, index, end) for order in state.orders]
    if plan.earns_interest:
        candidates.append(timeline.next_first(index))
    if state.trades and plan.delivers:
        # shorts may be assigned at the end of a session
        candidates.append(next_close(timeline, index))
    closes: dict[int, list[Order]] = {}
    for order in state.orders:
        if order.purpose == "close":
            closes.setdefault(order.trade, []).append(order)
    for trade in state.trades:
        closing, known = closes.get(trade.number, ()), exits.get(trade.number)
        if known is not None and known.holds(trade, index) and not closing:
            candidates.append(known.first)
            continue
        own = market.on_clock(trade.symbol)
        candidates.append(own.next_split(index))
        if any(leg.contract.is_unit for leg in trade.legs):
            candidates.append(own.next_dividend(index))
        waits = waiting(own, trade, int(timeline.times[min(index, end - 1)]))
        if any(order.whole for order in closing) or len(waits) == len(trade.legs):
            candidates.append(settlement_index(own, trade, index))
            continue
        working = frozenset(leg.leg_id for order in closing for leg in order.legs) | waits
        if known is None or known.working != working or known.first < index or not known.same(trade):
            known = exits[trade.number] = Ahead.of(plan, market, trade, working, index, end)
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
