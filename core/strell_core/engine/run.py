"""Running a strategy over history, snapshot by snapshot or in blocks.

Both ways call :func:`advance`; blocks call it only where something can happen. In between, a trade's
structure does not change, so exits are array functions over the whole stretch and the engine jumps to
the first snapshot at which one is true.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from dataclasses import dataclass, field
from decimal import Decimal

import numpy as np

from strell_core.engine.advance import Observation, advance, apply_fills
from strell_core.engine.fills import match
from strell_core.engine.marks import NEVER, stretch, stretch_end
from strell_core.engine.plan import Plan
from strell_core.engine.state import Advanced, ClosedTrade, EngineState, LedgerEntry, Order, Reason, TradeState
from strell_core.market.timeline import Timeline, valid_quotes
from strell_core.strategy.kinds import TRUE

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

    def take(self, advanced: Advanced) -> None:
        self.state = advanced.state
        self.reasons += advanced.reasons
        self.entries += advanced.entries
        self.closed += advanced.closed
        self.intents += advanced.intents


def run_steps(
    plan: Plan, timeline: Timeline, begin: int, end: int, cash: Decimal, progress: Progress | None = None,
    state: EngineState | None = None,
) -> History:  # fmt: skip
    """Every snapshot of ``[begin, end)``, one after another; ``state`` goes on from an earlier run."""
    history = History(state or EngineState(cash))
    for index in range(begin, end):
        if progress is not None:
            progress(index)
        step(plan, timeline, index, history)
    return history


def run_blocks(
    plan: Plan, timeline: Timeline, begin: int, end: int, cash: Decimal, progress: Progress | None = None,
    state: EngineState | None = None,
) -> History:  # fmt: skip
    """The same as :func:`run_steps`, jumping over snapshots in which nothing can happen."""
    history = History(state or EngineState(cash))
    decisions = plan.decision_indices(timeline, begin, end)
    exits: dict[int, tuple[TradeState, int]] = {}
    index = begin
    while index < end:
        if progress is not None:
            progress(index)
        step(plan, timeline, index, history)
        after = _next_event(plan, timeline, history.state, index + 1, end, decisions, exits)
        history.state = _skip(plan, timeline, history.state, index + 1, after)
        index = after
    return history


def step(plan: Plan, timeline: Timeline, index: int, history: History) -> None:
    """Fills, decisions, and fills on the same snapshot in sessions that have only one."""
    observation = Observation(timeline, index)
    history.take(advance(plan, history.state, observation, match(plan, history.state.orders, timeline, index)))
    if timeline.is_single[index] and history.state.orders:
        fills = match(plan, history.state.orders, timeline, index, same=True)
        history.take(apply_fills(plan, history.state, observation, fills))


def _next_event(
    plan: Plan, timeline: Timeline, state: EngineState, index: int, end: int, decisions: np.ndarray,
    exits: dict[int, tuple[TradeState, int]],
) -> int:  # fmt: skip
    """First snapshot from ``index`` on at which :func:`advance` may do more than mark positions."""
    if any(order.kind == "open" for order in state.orders):
        return min(index, end)
    at = int(np.searchsorted(decisions, index))
    candidates = [int(decisions[at]) if at < len(decisions) else end]
    candidates += [_first_fill(timeline, order, index, end) for order in state.orders]
    if state.trades:
        candidates.append(timeline.next_split(index))
    leaving = {order.trade for order in state.orders}
    for trade in state.trades:
        if trade.number in leaving:
            candidates.append(_settlement(timeline, trade))
            continue
        known = exits.get(trade.number)
        if known is None or known[0].legs != trade.legs or known[1] < index:
            exits[trade.number] = (trade, _first_exit(plan, timeline, trade, index, end))
        candidates.append(exits[trade.number][1])
    return min([*candidates, end])


def _first_exit(plan: Plan, timeline: Timeline, trade: TradeState, index: int, end: int) -> int:
    stop = min(stretch_end(trade, timeline), end, _settlement(timeline, trade), timeline.next_split(index))
    if index < stop:
        ahead = stretch(plan, trade, timeline, index, stop)
        true = np.zeros(stop - index, np.bool_)
        for rule, found in plan.exits:
            true |= found.test(ahead, rule.params) == TRUE
        hits = np.flatnonzero(true)
        if len(hits):
            return index + int(hits[0])
    return max(index, min(stop, end))


def _settlement(timeline: Timeline, trade: TradeState) -> int:
    """Index of the first snapshot at which a leg of the trade has settled."""
    settles = min(timeline.cubes[leg.contract.expiration].settlement_at for leg in trade.legs)
    return int(np.searchsorted(timeline.times, settles))


def _first_fill(timeline: Timeline, order: Order, index: int, end: int) -> int:
    """First snapshot from ``index`` on at which every leg of a closing order has a usable quote."""
    cubes = [timeline.cubes[leg.contract.expiration] for leg in order.legs]
    stop = min(end, *(cube.end for cube in cubes))
    if index >= stop:
        return max(index, stop)
    usable = np.ones(stop - index, np.bool_)
    for leg, cube in zip(order.legs, cubes, strict=True):
        row, window = cube.row(leg.contract.right, leg.contract.strike), slice(index - cube.start, stop - cube.start)
        bid, ask = cube.bid[row, window], cube.ask[row, window]
        usable &= valid_quotes(bid, ask) & ((bid > 0) | (leg.contracts > 0))
    hits = np.flatnonzero(usable)
    return index + int(hits[0]) if len(hits) else stop


def _skip(plan: Plan, timeline: Timeline, state: EngineState, index: int, after: int) -> EngineState:
    """Carry trades' paths over skipped snapshots ``[index, after)``."""
    if after <= index or not state.trades:
        return state
    trades = []
    for trade in state.trades:
        stop = min(after, stretch_end(trade, timeline))
        if index < stop:
            best = int(stretch(plan, trade, timeline, index, stop).best[-1])
            trade = dataclasses.replace(trade, best=best if best > NEVER else None)
        trades.append(trade)
    return dataclasses.replace(state, trades=tuple(trades))
