"""Decisions and what came of them: exits with when each was done and what stood in the way meanwhile, entries that were
not filled (semantics rule 8)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from strell_core.engine.fills import price_of
from strell_core.engine.plan import Plan
from strell_core.engine.run import History
from strell_core.engine.state import LegClose, Reason
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Market
from strell_core.market.prices import PARTS
from strell_core.market.timeline import Timeline
from strell_core.market.view import valid_quotes


@dataclass(frozen=True)
class Leaving:
    """A decision to leave a trade, and when it was done, epoch seconds; ``None``: it never was. ``late``: not by the end
    of the session after its own."""

    trade: int
    rule: str
    decided_at: int
    done_at: int | None
    late: bool


def leavings(history: History, timeline: Timeline, last: int) -> list[Leaving]:
    """Every decision of a run to leave, in the order in which they came to their end. ``last``: index of the session
    the run ended in; what is still at work then has had until its end."""
    out: list[Leaving] = []
    waiting: dict[tuple[int, str], int] = {}

    def session(at: int) -> int:
        return int(timeline.session_of[timeline.at_or_before(at)])

    for reason in history.reasons:
        if reason.trade is None:
            continue
        key = (reason.trade, reason.rule)
        if reason.kind == "left":
            waiting.setdefault(key, reason.at)
        elif reason.kind == "filled" and reason.values.get("kind") == "close" and key in waiting:
            if reason.values.get("more"):
                # legs of it are still to be dealt
                continue
            decided = waiting.pop(key)
            out.append(Leaving(*key, decided, reason.at, session(reason.at) - session(decided) > 1))
    held = {trade.number for trade in history.state.trades}
    for (trade, rule), decided in waiting.items():
        late = trade not in held or last - session(decided) > 1
        out.append(Leaving(trade, rule, decided, None, late))
    return out


def unfilled(reasons: Sequence[Reason]) -> dict[int, str]:
    """Trades that an order was to open and none of which was filled, each with what it said in the end."""
    filled = {reason.trade for reason in reasons if reason.kind == "filled"}
    return {
        reason.trade: str(reason.values["message"])
        for reason in reasons
        if reason.kind == "lapsed" and reason.trade is not None and reason.trade not in filled
    }


def delayed(history: History, timeline: Timeline, last: int) -> list[Leaving]:
    """Decisions that were not carried out by the end of the session after theirs."""
    return [item for item in leavings(history, timeline, last) if item.late]


@dataclass(frozen=True)
class Night:
    """A decision to leave on a session's last snapshot that was carried out in a later one. ``cost``: by how much dealing
    then was worse than at the prices of the decision, in money, below 0 where it was better; ``None``: not every leg
    had a price then, or it was called otherwise."""

    leaving: Leaving
    cost: float | None


def over_night(plan: Plan, market: Market, history: History) -> list[Night]:
    """Exits that waited for the next session because nobody could have dealt in their own any more."""
    clock, out = market.main, []
    legs: dict[int, list[LegClose]] = {trade.number: list(trade.legs) for trade in history.closed}
    legs |= {trade.number: list(trade.closed_legs) for trade in history.state.trades}
    urgent = {(order.trade, order.rule, order.decided_at): order.type == "market" for order in history.intents}
    for item in leavings(history, clock, len(clock.dates) - 1):
        at = clock.at_or_before(item.decided_at)
        if item.done_at is None or not clock.last_of_several[at]:
            continue
        gone = [leg for leg in legs.get(item.trade, ()) if leg.closed_at == item.done_at and leg.how == "order"]
        share = (
            100 if urgent.get((item.trade, item.rule, item.decided_at)) else plan.strategy.orders["fill_model"]["share"]
        )
        costs = [_worse(plan, market, leg, at, share) for leg in gone]
        known = [cost for cost in costs if cost is not None]
        out.append(Night(item, sum(known) if known and len(known) == len(costs) else None))
    return out


def _worse(plan: Plan, market: Market, leg: LegClose, at: int, share: int) -> float | None:
    """What dealing in a leg later cost, against its fill price at snapshot ``at`` of the clock, in money."""
    there = market.on_clock(leg.contract.underlying)
    price = price_of(plan, there.view(at), leg.contract, -leg.contracts, share, closes=True)
    if price is None:
        return None
    opened_on = there.dates[int(there.session_of[at])]
    worth = float(there.underlying.quantum) / PARTS * there.multiplier(opened_on)
    return leg.contracts * (price - leg.closed_parts) * worth


def in_the_way(
    timeline: Timeline, contracts: Iterable[ContractKey], decided_at: int, done_at: int
) -> tuple[int, dict[ContractKey, int]]:
    """How many snapshots of what was traded lie between a decision and what came of it, and at how many of them each
    contract had no valid quote; contracts that always had one are left out."""
    begin, end = timeline.at_or_before(decided_at) + 1, int(np.searchsorted(timeline.times, done_at))
    if timeline.is_single[begin - 1]:
        begin -= 1  # decided and dealt on the same one, if it can be
    seen = timeline.recorded_anew(begin, end)
    missing = {}
    for contract in contracts:
        bid, ask = timeline.quotes(contract, begin, max(begin, end))
        missing[contract] = int((~valid_quotes(bid, ask))[seen - begin].sum())
    return len(seen), {contract: count for contract, count in missing.items() if count}
