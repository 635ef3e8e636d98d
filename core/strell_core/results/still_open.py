"""Trades that are open when a run ends, with their marks."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from strell_core.engine.marks import carried
from strell_core.engine.run import History
from strell_core.engine.settlement import expired
from strell_core.engine.state import LegState, TradeState
from strell_core.market.market import Market
from strell_core.market.prices import money, parts_to_money
from strell_core.market.view import valid_quotes


@dataclass(frozen=True)
class MarkedLeg:
    """A held leg and its mid in parts; ``stale``: that of an older quote; ``waits``: it has come to its settlement, whose
    value is not recorded."""

    leg: LegState
    parts: int
    stale: bool
    waits: bool


@dataclass(frozen=True)
class StillOpen:
    """An open trade at a run's end; ``pnl`` in money, costs so far included."""

    trade: TradeState
    pnl: Decimal
    legs: tuple[MarkedLeg, ...]


def still_open(market: Market, history: History, last: int) -> list[StillOpen]:
    """Open trades as they stand at snapshot ``last``, their legs at mid."""
    now, out = int(market.main.times[last]), []
    for trade in history.state.trades:
        timeline = market.on_clock(trade.symbol)
        legs = tuple(
            MarkedLeg(
                leg, carried(timeline, trade, leg, last), not valid_quotes(*timeline.quotes(leg.contract, last, last + 1))[0],
                expired(timeline, leg.contract, now),
            )
            for leg in trade.legs
        )  # fmt: skip
        worth = sum(marked.leg.contracts * marked.parts for marked in legs)
        value = money(parts_to_money(worth, timeline.underlying.quantum, timeline.multiplier(trade.opened_on)))
        out.append(StillOpen(trade, trade.cash + value, legs))
    return out
