"""Marks of a trade over a stretch of snapshots."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from strell_core.engine.plan import Plan
from strell_core.engine.state import TradeState
from strell_core.market.prices import PARTS
from strell_core.market.timeline import Timeline, valid_quotes
from strell_core.strategy.kinds import PositionLeg, Stretch

NEVER = -(2**62)


def stretch_end(trade: TradeState, timeline: Timeline) -> int:
    """One past the last snapshot for which the trade's legs can be marked together."""
    return min(timeline.cubes[leg.contract.expiration].end for leg in trade.legs)


def stretch(plan: Plan, trade: TradeState, timeline: Timeline, begin: int, end: int) -> Stretch:
    """The trade's marks over snapshots ``[begin, end)``. Its legs must be listed there."""
    n = end - begin
    mid = np.full(n, trade.realised, np.int64)
    closable, width = mid.copy(), np.zeros(n, np.int64)
    valued, can_close = np.ones(n, np.bool_), np.ones(n, np.bool_)
    for leg in trade.legs:
        cube = timeline.cubes[leg.contract.expiration]
        row = cube.row(leg.contract.right, leg.contract.strike)
        window = slice(begin - cube.start, end - cube.start)
        bid, ask = cube.bid[row, window].astype(np.int64), cube.ask[row, window].astype(np.int64)
        good = valid_quotes(bid, ask)
        valued &= good
        can_close &= good if leg.contracts < 0 else good & (bid > 0)
        mid += leg.contracts * ((bid + ask) * (PARTS // 2) - leg.opened_parts)
        out = ask if leg.contracts < 0 else bid
        closable += leg.contracts * (out * PARTS - leg.opened_parts)
        width += abs(leg.contracts) * (ask - bid) * PARTS
    settings = plan.strategy.orders["doubtful_marks"]
    doubtful = 100 * width > settings["percent"] * abs(trade.opening)
    if settings["last"] == "wait":
        doubtful = doubtful | (timeline.is_last[begin:end] & ~timeline.is_single[begin:end])
    known = np.where(valued, mid, NEVER)
    known[0] = max(int(known[0]), NEVER if trade.best is None else trade.best)
    legs = [PositionLeg(leg.contract, leg.contracts, leg.opened_parts) for leg in trade.legs]
    return Stretch(
        legs, trade.opening, trade.opened_on, timeline.calendar, timeline.ordinal[begin:end],
        timeline.minute[begin:end], timeline.spot[begin:end], closable, mid, valued, can_close, doubtful,
        np.maximum.accumulate(known),
    )  # fmt: skip


@dataclass(frozen=True)
class TradeMark:
    """A trade at one instant, parts times contracts; ``None``: unvalued."""

    mid: int | None
    closable: int | None


def mark(plan: Plan, trade: TradeState, timeline: Timeline, index: int) -> TradeMark:
    at = stretch(plan, trade, timeline, index, index + 1)
    return TradeMark(int(at.mid[0]) if at.valued[0] else None, int(at.closable[0]) if at.closable_valued[0] else None)
