"""What another exit would have brought: a trade lived again by the engine, from its entry on, with other exits."""

from __future__ import annotations

import dataclasses
from collections.abc import Collection
from dataclasses import dataclass
from decimal import Decimal

from strell_core.engine.advance import apply_fills
from strell_core.engine.fills import match
from strell_core.engine.plan import Plan
from strell_core.engine.run import History, run_blocks
from strell_core.engine.state import ClosedTrade, EngineState, Order, OrderLeg
from strell_core.engine.step import Step
from strell_core.market.market import Market, Observation
from strell_core.market.timeline import Timeline
from strell_core.results.still_open import still_open
from strell_core.strategy.actions import Close
from strell_core.strategy.document import Rule

AMPLE = Decimal(10) ** 9
"""Cash that no capital rule is short of: other trades of the run are not there."""
STRETCH = 40
"""Sessions looked at together before asking whether the trade is over."""
ALL, NEVER, EARLIER, LATER = "all", "never", "earlier", "later"


@dataclass(frozen=True)
class OtherExit:
    """How a trade ends with other exits: ``how`` is ``all`` of the sheet, ``never`` any, a session ``earlier`` or ``later``
    than it was decided, else the id of the one sentence that could act."""

    how: str
    left_by: str
    """As a closed trade's rule; nothing: it is open where the history ends."""
    left_at: int
    """When that was decided; the last snapshot of the history where it is open."""
    closed_at: int
    pnl: Decimal
    """In money after costs, at mid where it is open."""
    trade: ClosedTrade | None


def other_exits(plan: Plan, market: Market, trade: ClosedTrade) -> list[OtherExit]:
    """The trade by the sheet's exits together, by every one of them alone, by none, and decided one session earlier and
    later at the same time of day. The first is the trade itself unless something else ended it: a limit, a person.
    Nothing of a trade that went through a split. Costs, fills and adjustments are the sheet's."""
    order = _opening(plan, market.main, trade)
    if order is None:
        return []
    begin = market.main.at_or_before(trade.decided_at)
    exits = [item.rule.id for item in plan.entry(trade.entry).exits]
    out = []
    for how, left in ((ALL, exits), *((rule, [rule]) for rule in exits), (NEVER, [])):
        only = _with(plan, left)
        out.append(_ended(only, market, _lived(only, market, _begun(order), begin), how))
    never = _with(plan, [])
    urgent = any(item.rule.id == trade.rule and item.way == "loss" for item in plan.entry(trade.entry).exits)
    for how, by in ((EARLIER, -1), (LATER, 1)):
        index = _at_the_same_time(market.main, trade, by)
        history = None if index is None else _lived(never, market, _begun(order), begin, index + 1)
        if index is not None and history is not None and history.state.trades:
            _leave(never, market, history, index, how, urgent)
            out.append(_ended(never, market, _lived(never, market, history, index + 1), how))
    return out


def _opening(plan: Plan, timeline: Timeline, trade: ClosedTrade) -> Order | None:
    """The order that opened a trade, as the engine meant it; ``None`` after a split."""
    legs: dict[str, OrderLeg] = {}
    for leg in trade.legs:
        if leg.how == "split":
            return None
        if not leg.opened_at:
            before = legs[leg.leg_id].contracts if leg.leg_id in legs else 0
            legs[leg.leg_id] = OrderLeg(leg.leg_id, leg.contract, before + leg.contracts)
    entry = plan.entry(trade.entry)
    told = {"reentry": trade.reentries} if trade.reentries else {}
    return Order(
        f"{trade.number}-open", "open", trade.number, trade.lots, tuple(legs.values()), trade.decided_at,
        timeline.date_at(trade.decided_at), entry.entry.schedule.id, told, entry=trade.entry, least=plan.least(entry),
    )  # fmt: skip


def _begun(order: Order) -> History:
    return History(EngineState(AMPLE, order.trade + 1, orders=(order,)))


def _with(plan: Plan, exits: Collection[str]) -> Plan:
    """The plan with these exits only, which opens nothing and has no limits on conditions."""

    def left(rules: tuple[Rule, ...]) -> tuple[Rule, ...]:
        return tuple(rule for rule in rules if rule.id in exits)

    strategy = plan.strategy
    entries = tuple(dataclasses.replace(entry, leave=left(entry.leave)) for entry in strategy.entries)
    only = dataclasses.replace(strategy, entries=entries, leave=left(strategy.leave), guards=())
    return Plan(only, plan.underlyings, frozenset(("leave", "adjust")))


def _lived(plan: Plan, market: Market, history: History, begin: int, end: int | None = None) -> History:
    """What is held or asked for goes on from snapshot ``begin`` to its end, or to ``end``."""
    timeline = market.main
    at, stop = begin, len(timeline.times) if end is None else end
    while at < stop and (history.state.trades or history.state.orders):
        session = int(timeline.session_of[at]) + STRETCH
        until = min(stop, int(timeline.first[session])) if session < len(timeline.dates) else stop
        history.extend(run_blocks(plan, market, at, until, AMPLE, state=history.state))
        at = until
    return history


def _at_the_same_time(timeline: Timeline, trade: ClosedTrade, by: int) -> int | None:
    """The snapshot, so many sessions after the one in which a trade's exit was decided, from that time of day on;
    ``None`` where there is none, or the trade was not held yet."""
    left = timeline.at_or_before(trade.left_at)
    session = int(timeline.session_of[left]) + by
    if not 0 <= session < len(timeline.dates):
        return None
    first, after = int(timeline.first[session]), int(timeline.first[session + 1])
    index = next((at for at in range(first, after) if timeline.minute[at] >= timeline.minute[left]), after - 1)
    return index if timeline.times[index] >= trade.opened_at else None


def _leave(plan: Plan, market: Market, history: History, index: int, how: str, urgent: bool) -> None:
    """Decide to close all that is held at a snapshot, as an exit of the position would."""
    observation = Observation(market, index)
    step = Step(plan, history.state, observation)
    (held,) = history.state.trades
    step.leave(held, held.legs, how, {}, (), "loss" if urgent else "other", (), Close())
    history.take(step.result())
    if market.main.is_single[index]:
        fills = match(plan, history.state.orders, market, index, same=True)
        history.take(apply_fills(plan, history.state, observation, fills))


def _ended(plan: Plan, market: Market, history: History, how: str) -> OtherExit:
    if history.closed:
        trade = history.closed[0]
        return OtherExit(how, trade.rule, trade.left_at, trade.closed_at, trade.pnl, trade)
    last = len(market.main.times) - 1
    now = int(market.main.times[last])
    pnl = sum((item.pnl for item in still_open(market, history, last)), Decimal(0))
    return OtherExit(how, "", now, now, pnl, None)
