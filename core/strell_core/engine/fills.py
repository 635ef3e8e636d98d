"""Simulated fills from recorded quotes (semantics rule 8)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from decimal import Decimal

import numpy as np

from strell_core.engine.ledger import options_in
from strell_core.engine.plan import Plan
from strell_core.engine.settlement import expired
from strell_core.engine.state import DELIVERY, Fill, Order, OrderLeg
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Market, market_of
from strell_core.market.prices import PARTS, money
from strell_core.market.splits import after
from strell_core.market.timeline import ChainView, Quote, Timeline, valid_quotes


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


def price_of(
    plan: Plan, view: ChainView, contract: ContractKey, contracts: int, share: int, closes: bool = False
) -> int | None:  # fmt: skip
    """As :func:`fill_price`, of the underlying itself too: that is dealt half of its own spread from its price."""
    if contract.is_unit:
        half = plan.unit_halves[contract.underlying]
        return view.spot_in_parts + (half if contracts > 0 else -half)
    return fill_price(view.quote(contract), contracts, share, closes)


def match(
    plan: Plan, orders: Sequence[Order], history: Market | Timeline, index: int, same: bool = False
) -> list[Fill]:
    """Fills of working orders on snapshot ``index``.

    An order fills on quotes recorded after its decision (``same``: on those it was decided on, in sessions with one
    snapshot), when every leg has a usable one and they bring the least it wants; opening and adjusting orders only
    within their session. What is to end is confirmed to be gone.
    """
    market = market_of(history)
    instant, session = int(market.main.times[index]), market.date(index)
    settings = plan.strategy.orders["fill_model"]
    fills = []
    for order in orders:
        if order.ending and not same:
            fills.append(Fill(order.id, instant, (), Decimal(0), 0, True))
            continue
        timeline = market.on_clock(order.symbol)
        recorded = timeline.recorded_at(index)
        # what was delivered after a close is dealt in the next session at the earliest
        late = order.decided_at >= recorded and (not same or order.rule == DELIVERY)
        if late or recorded < 0 or not order.legs:
            continue
        if order.purpose != "close" and order.session != session:
            continue
        closes = order.purpose == "close"
        # settlement comes first: what has settled, or waits for its value, is not closed any more
        legs = [
            leg
            for leg in _over_split(timeline, index, order.legs)
            if not closes or not expired(timeline, leg.contract, instant)
        ]
        # a market order pays the other side, whatever part of the spread the sheet hopes to keep
        share = 100 if order.type == "market" else settings["share"]
        view = timeline.view(index)
        prices = [price_of(plan, view, leg.contract, leg.contracts, share, closes) for leg in legs]
        found = tuple(price for price in prices if price is not None)
        if not legs or len(found) < len(prices) or (order.least is not None and not order.brings(found)):
            continue
        lots = _dealt(plan, timeline, index, order, legs)
        if lots == 0:
            continue
        dealt = ((leg.contract, leg.contracts * lots // order.lots) for leg in legs)
        fills.append(Fill(order.id, instant, found, commission(plan, dealt), None if lots == order.lots else lots))
    return fills


def commission(plan: Plan, dealt: Iterable[tuple[ContractKey, int]]) -> Decimal:
    """What a fill of so many contracts costs, money."""
    costs = plan.strategy.orders["commission"]
    return money(Decimal(str(costs["per_contract"])) * options_in(dealt) + Decimal(str(costs["per_order"])))


def quoted_lots(timeline: Timeline, index: int, legs: Sequence[OrderLeg], lots: int, closes: bool) -> int | None:
    """Whole lots, of the ``lots`` that ``legs`` are, for which the sizes quoted on snapshot ``index`` are enough;
    ``None`` where none was told. What nobody bids for is given away, as much as there is."""
    if timeline.sizes is None:
        return None
    instant, found = int(timeline.times[index]), None
    for leg in legs:
        told = None if leg.contract.is_unit else timeline.sizes(leg.contract, instant)
        if told is None or (closes and leg.contracts < 0 and timeline.view(index).quote(leg.contract).bid == 0):
            continue
        enough = told[leg.contracts > 0] // (abs(leg.contracts) // lots)
        found = enough if found is None else min(found, enough)
    return found


def _dealt(plan: Plan, timeline: Timeline, index: int, order: Order, legs: Sequence[OrderLeg]) -> int:
    """Lots of an order that the sheet's policy deals in at the sizes quoted (semantics rule 8)."""
    policy, closes = plan.strategy.orders["quoted_size"]["policy"], order.purpose == "close"
    if policy == "take":
        return order.lots
    quoted = quoted_lots(timeline, index, legs, order.lots, closes)
    if quoted is None or quoted >= order.lots:
        return order.lots
    return quoted if policy == "split" or closes else 0


def _over_split(timeline: Timeline, index: int, legs: Sequence[OrderLeg]) -> Sequence[OrderLeg]:
    """An order's legs as they are called and counted at a snapshot from which on a split holds: corporate actions come
    before fills (semantics rule 7)."""
    split = timeline.splits.get(index)
    if split is None or split.whole is None:
        return legs
    return [OrderLeg(leg.leg_id, after(leg.contract, split.whole), leg.contracts * split.whole) for leg in legs]


def first_event(market: Market, order: Order, index: int, end: int) -> int:
    """First snapshot from ``index`` on at which an order at work may come to something: a fill, its end, or the last
    chance in its session."""
    if order.ending:
        return min(index, end)
    timeline, stop = market.on_clock(order.symbol), end
    if order.purpose != "close":
        session = timeline.session_index(order.session)
        last = index if session is None else int(timeline.first[session + 1]) - 1
        stop = min(end, max(index, last))
    until = min([stop, *(timeline.listed_until(leg.contract) for leg in order.legs)])
    index = max(index, timeline.recorded_after(order.decided_at))
    if index >= until:
        # without quotes only a settlement, which is an event of its own, can make another order of it
        return stop
    usable = np.ones(until - index, np.bool_)
    for leg in order.legs:
        bid, ask = timeline.quotes(leg.contract, index, until)
        usable &= valid_quotes(bid, ask)
        if order.purpose != "close" and leg.contracts < 0:
            usable &= bid > 0
    hits = np.flatnonzero(usable)
    return index + int(hits[0]) if len(hits) else stop
