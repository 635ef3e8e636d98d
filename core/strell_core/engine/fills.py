"""Simulated fills from recorded quotes (semantics rule 8)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from decimal import Decimal

import numpy as np
from numba import njit

from strell_core.engine.changed import changed
from strell_core.engine.ledger import options_in
from strell_core.engine.plan import Plan
from strell_core.engine.settlement import expired
from strell_core.engine.state import DELIVERY, Fill, Order, OrderLeg
from strell_core.engine.working import cost_of, limit_of, waited
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Market, market_of
from strell_core.market.prices import PARTS, money
from strell_core.market.splits import after
from strell_core.market.timeline import Timeline
from strell_core.market.view import ChainView, Quote, valid_quotes


def fill_price(quote: Quote, contracts: int, share: int, closes: bool = False) -> int | None:
    """Price in parts for buying (positive) or selling at ``share`` percent of the way from mid to the other side;
    ``None`` when the quote is invalid. Where nobody bids nothing is sold short, and what is held is given away at 0
    (semantics rule 8)."""
    if not quote.valid:
        return None
    if contracts < 0 and quote.bid == 0:
        return 0 if closes else None
    found: int = parts_at.py_func(quote.bid, quote.ask, contracts, share)
    return found


@njit(cache=True, nogil=True)
def parts_at(bid: int, ask: int, contracts: int, share: int) -> int:
    """Price in parts of a quote that can be dealt on, for buying or selling."""
    way = share * PARTS // 200 * (ask - bid)
    return (bid + ask) * (PARTS // 2) + (way if contracts > 0 else -way)


def price_of(
    plan: Plan, view: ChainView, contract: ContractKey, contracts: int, share: int, closes: bool = False
) -> int | None:  # fmt: skip
    """As :func:`fill_price`, of the underlying itself too: that is dealt half of its own spread from its price."""
    if contract.is_unit:
        half = plan.unit_halves[contract.underlying]
        return (view.spot_in_parts + (half if contracts > 0 else -half)) // contract.divisor
    return fill_price(view.quote(contract), contracts, share, closes)


def match(
    plan: Plan, orders: Sequence[Order], history: Market | Timeline, index: int, same: bool = False
) -> list[Fill]:
    """Fills of working orders on snapshot ``index``.

    An order fills on quotes recorded after its decision (``same``: on those it was decided on, in sessions with one
    snapshot), when every leg whose turn it is has a usable one and they bring the least it wants, within the limit that
    it has come to; opening and adjusting orders only within their session. What is to end is confirmed to be gone.
    """
    market = market_of(history)
    instant, session = int(market.main.times[index]), market.date(index)
    fills = []
    for order in orders:
        # in a session of one snapshot an exit that is to end closes what it can: nothing else is left to
        if order.ending and (not same or order.purpose != "close"):
            fills.append(Fill(order.id, instant, (), Decimal(0), 0, True))
            continue
        timeline = market.on_clock(order.symbol)
        recorded = timeline.recorded_at(index)
        # what was delivered after a close is dealt in the next session at the earliest
        late = order.turn >= recorded and (not same or order.rule == DELIVERY)
        if late or recorded < 0 or not order.legs:
            continue
        if order.purpose != "close" and order.session != session:
            continue
        closes = order.purpose == "close"
        # an order made before a split is converted once: what was decided on this very snapshot is in its units already
        now = order if same else changed(order, legs=tuple(_over_split(timeline, index, order.legs)))
        made = dict(zip(now.legs, order.legs, strict=True))
        # settlement comes first: what has settled, or waits for its value, is not closed any more
        legs = [leg for leg in now.legs if not closes or not expired(timeline, leg.contract, instant)]
        # where a session is one snapshot, one leg after another is all of them
        turn = legs if same else plan.working.turn(now, legs)
        last = len(turn) == len(legs)
        part = now if last else now.of_legs(turn)
        found = _prices(plan, part, turn, market, index, same, made) if turn else None
        if found is None or (last and not now.brings(found)):
            continue
        lots = _dealt(plan, timeline, index, part, turn)
        if lots == 0:
            continue
        dealt = [(leg.leg_id, leg.contracts * lots // part.lots) for leg in turn]
        costs = commission(plan, ((leg.contract, n) for leg, (_, n) in zip(turn, dealt, strict=True)))
        if last and (lots == order.lots or plan.working.by_leg is None):
            fills.append(Fill(order.id, instant, found, costs, None if lots == order.lots else lots))
        else:
            fills.append(Fill(order.id, instant, found, costs, dealt=tuple(dealt)))
    return fills


def _prices(
    plan: Plan, order: Order, legs: Sequence[OrderLeg], market: Market, index: int, same: bool,
    made: Mapping[OrderLeg, OrderLeg],
) -> tuple[int, ...] | None:  # fmt: skip
    """Prices in parts at which an order deals on a snapshot in those of its legs that have not settled; ``None``: it does
    not. ``made``: its legs as they were called and counted on the snapshot before."""
    timeline, closes = market.on_clock(order.symbol), order.purpose == "close"
    view = timeline.view(index)

    def at(view: ChainView, share: int, legs: Sequence[OrderLeg] = legs) -> tuple[int, ...] | None:
        prices = [price_of(plan, view, leg.contract, leg.contracts, share, closes) for leg in legs]
        found = tuple(price for price in prices if price is not None)
        return found if len(found) == len(prices) else None

    # a market order pays the other side, whatever part of the spread the sheet hopes to keep
    found = at(view, 100 if order.type == "market" else plan.strategy.orders["fill_model"]["share"])
    patience = plan.working.patience
    if patience is None or order.type == "market" or found is None:
        return found
    elapsed = None if same else waited(market.main, order, index)
    # a limit is set on what was seen before, in the units of then: over a split it is the same money
    before = legs if same else [made[leg] for leg in legs]
    set_at = at(view if same else timeline.view(index - 1), patience.stood(elapsed), before)
    if set_at is not None and cost_of(legs, found) <= limit_of(before, order.lots, set_at):
        return found
    over = elapsed is None or elapsed > patience.whole
    return at(view, 100) if over and patience.crosses(order) else None


def commission(plan: Plan, dealt: Iterable[tuple[ContractKey, int]]) -> Decimal:
    """What a fill of so many contracts costs, money: options by one sentence, units of the underlying by another."""
    dealt, orders = list(dealt), plan.strategy.orders
    units = sum(abs(n) * plan.of(c.underlying).multiplier // c.divisor for c, n in dealt if c.is_unit)
    total = Decimal(0)
    for each, many, costs in (
        ("per_contract", options_in(dealt), orders["commission"]), ("per_unit", units, orders["unit_commission"]),
    ):  # fmt: skip
        if many:
            total += Decimal(str(costs[each])) * many + Decimal(str(costs["per_order"]))
    return money(total)


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


def first_event(plan: Plan, market: Market, order: Order, index: int, end: int) -> int:
    """First snapshot from ``index`` on at which an order at work may come to something: a fill, its end, or the last
    chance in its session."""
    if order.ending:
        return min(index, end)
    timeline, stop = market.on_clock(order.symbol), end
    if order.purpose != "close":
        session = timeline.session_index(order.session)
        last = index if session is None else int(timeline.first[session + 1]) - 1
        given_up = plan.working.given_up_at(market.main, order)
        stop = min(end, max(index, last if given_up is None else min(last, given_up)))
    legs = plan.working.turn(order, order.legs)
    until = min([stop, *(timeline.listed_until(leg.contract) for leg in legs)])
    index = max(index, timeline.recorded_after(order.turn))
    if index >= until:
        # without quotes only a settlement, which is an event of its own, can make another order of it
        return stop
    usable = np.ones(until - index, np.bool_)
    for leg in legs:
        bid, ask = timeline.quotes(leg.contract, index, until)
        usable &= valid_quotes(bid, ask)
        if order.purpose != "close" and leg.contracts < 0:
            usable &= bid > 0
    hits = np.flatnonzero(usable)
    return index + int(hits[0]) if len(hits) else stop
