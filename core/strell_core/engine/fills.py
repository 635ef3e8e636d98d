"""Simulated fills from recorded quotes (semantics rule 8)."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

from strell_core.engine.plan import Plan
from strell_core.engine.state import Fill, Order
from strell_core.market.prices import PARTS, money
from strell_core.market.timeline import Quote, Timeline


def fill_price(quote: Quote, contracts: int, share: int) -> int | None:
    """Price in parts for buying (positive) or selling at ``share`` percent of the way from mid to
    the other side; ``None`` when the quote is invalid or would be sold at a zero bid."""
    if not quote.valid or (contracts < 0 and quote.bid == 0):
        return None
    way = share * PARTS // 200 * (quote.ask - quote.bid)
    return (quote.bid + quote.ask) * (PARTS // 2) + (way if contracts > 0 else -way)


def match(plan: Plan, orders: Sequence[Order], timeline: Timeline, index: int, same: bool = False) -> list[Fill]:
    """Fills of working orders on snapshot ``index``.

    An order fills on a snapshot after its decision (``same``: on it, in sessions with one), when
    every leg has a usable quote; an opening order only within its session.
    """
    instant, view = int(timeline.times[index]), timeline.view(index)
    session = timeline.dates[int(timeline.session_of[index])]
    settings, costs = plan.strategy.orders["fill_model"], plan.strategy.orders["commission"]
    fills = []
    for order in orders:
        if (order.decided_at >= instant and not same) or (order.kind == "open" and order.session != session):
            continue
        prices = [fill_price(view.quote(leg.contract), leg.contracts, settings["share"]) for leg in order.legs]
        if any(price is None for price in prices):
            continue
        contracts = sum(abs(leg.contracts) for leg in order.legs)
        commission = Decimal(str(costs["per_contract"])) * contracts + Decimal(str(costs["per_order"]))
        fills.append(Fill(order.id, instant, tuple(p for p in prices if p is not None), money(commission)))
    return fills
