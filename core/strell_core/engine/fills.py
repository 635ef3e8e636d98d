"""Simulated fills from recorded quotes (semantics rule 8)."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

import numpy as np

from strell_core.engine.plan import Plan
from strell_core.engine.settlement import settlement_parts
from strell_core.engine.state import Fill, Order
from strell_core.market.prices import PARTS, money
from strell_core.market.timeline import Quote, Timeline, valid_quotes


def fill_price(quote: Quote, contracts: int, share: int, closes: bool = False) -> int | None:
    """Price in parts for buying (positive) or selling at ``share`` percent of the way from mid to the other side;
    ``None`` when the quote is invalid. Where nobody bids nothing is sold short, and what is held is given away at 0
    (semantics rule 8)."""
    if not quote.valid:
        return None
    if contracts < 0 and quote.bid == 0:
        return 0 if closes else None
    way = share * PARTS // 200 * (quote.ask - quote.bid)
    return (quote.bid + quote.ask) * (PARTS // 2) + (way if contracts > 0 else -way)


def match(plan: Plan, orders: Sequence[Order], timeline: Timeline, index: int, same: bool = False) -> list[Fill]:
    """Fills of working orders on snapshot ``index``.

    An order fills on a snapshot after its decision (``same``: on it, in sessions with one), when
    every leg has a usable quote; opening and adjusting orders only within their session. What is to
    end is confirmed to be gone.
    """
    instant, view = int(timeline.times[index]), timeline.view(index)
    session = timeline.dates[int(timeline.session_of[index])]
    settings, costs = plan.strategy.orders["fill_model"], plan.strategy.orders["commission"]
    fills = []
    for order in orders:
        if order.ending and not same:
            fills.append(Fill(order.id, instant, (), Decimal(0), 0, True))
            continue
        if (order.decided_at >= instant and not same) or not order.legs:
            continue
        if order.purpose != "close" and order.session != session:
            continue
        closes = order.purpose == "close"
        # settlement comes first: what has settled is not closed any more
        legs = [leg for leg in order.legs if not closes or settlement_parts(timeline, leg.contract, instant) is None]
        # a market order pays the other side, whatever part of the spread the sheet hopes to keep
        share = 100 if order.type == "market" else settings["share"]
        prices = [fill_price(view.quote(leg.contract), leg.contracts, share, closes) for leg in legs]
        if not legs or any(price is None for price in prices):
            continue
        contracts = sum(abs(leg.contracts) for leg in legs)
        commission = Decimal(str(costs["per_contract"])) * contracts + Decimal(str(costs["per_order"]))
        fills.append(Fill(order.id, instant, tuple(p for p in prices if p is not None), money(commission)))
    return fills


def first_event(timeline: Timeline, order: Order, index: int, end: int) -> int:
    """First snapshot from ``index`` on at which an order at work may come to something: a fill, its end, or the last
    chance in its session."""
    if order.ending:
        return min(index, end)
    stop = end
    if order.purpose != "close":
        session = timeline.session_index(order.session)
        last = index if session is None else int(timeline.first[session + 1]) - 1
        stop = min(end, max(index, last))
    cubes = [timeline.cubes[leg.contract.expiration] for leg in order.legs]
    until = min([stop, *(cube.end for cube in cubes)])
    if index >= until or not cubes:
        return max(index, until) if cubes else stop
    usable = np.ones(until - index, np.bool_)
    for leg, cube in zip(order.legs, cubes, strict=True):
        row, window = cube.row(leg.contract.right, leg.contract.strike), slice(index - cube.start, until - cube.start)
        bid, ask = cube.bid[row, window], cube.ask[row, window]
        usable &= valid_quotes(bid, ask)
        if order.purpose != "close" and leg.contracts < 0:
            usable &= bid > 0
    hits = np.flatnonzero(usable)
    return index + int(hits[0]) if len(hits) else until
