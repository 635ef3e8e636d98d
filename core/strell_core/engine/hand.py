"""What a person does by hand in a life that rules share: deals become orders of the engine, filled at once."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

import numpy as np

from strell_core.engine.advance import apply_fills
from strell_core.engine.plan import Plan
from strell_core.engine.run import History, run_blocks
from strell_core.engine.state import EngineState, Fill, Order, OrderLeg, Purpose, TradeState
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Market, Observation, market_of
from strell_core.market.timeline import Timeline

BY_HAND = "by hand"
"""The rule that such orders name."""


@dataclass(frozen=True)
class Deal:
    """So many contracts bought (positive) or sold at a price in parts."""

    contract: ContractKey
    contracts: int
    price_parts: int
    leg: str = ""
    """The leg it opens; without a name it is called after its contract."""


@dataclass(frozen=True)
class Action:
    """Deals made together at a snapshot, after what the rules did there; ``rule``: who made them."""

    at: int
    deals: tuple[Deal, ...]
    commission: Decimal
    rule: str = BY_HAND
    entry: str = ""


def lived(
    plan: Plan, history: Market | Timeline, begin: int, end: int, cash: Decimal, actions: Sequence[Action]
) -> History:
    """A run over ``[begin, end)`` in which a person acts: what the plan's rules do by themselves they do, and each
    action is dealt at its snapshot. Actions come in order of time; those outside the range do not happen."""
    market = market_of(history)
    out = History(EngineState(cash))
    at = begin
    for action in actions:
        place = int(np.searchsorted(market.main.times, action.at))
        if not begin <= place < end or int(market.main.times[place]) != action.at:
            continue
        if place + 1 > at:
            out.extend(run_blocks(plan, market, at, place + 1, cash, state=out.state))
            at = place + 1
        deal(plan, Observation(market, place), out, action)
    if at < end:
        out.extend(run_blocks(plan, market, at, end, cash, state=out.state))
    return out


def deal(plan: Plan, observation: Observation, out: History, action: Action) -> None:
    """One action: it closes what is held the other way round, and the rest joins the oldest open trade of its underlying
    or begins one."""
    state = out.state
    orders = _orders(state, observation, action)
    opened = len({order.trade for order in orders if order.trade >= state.next_trade})
    given = dataclasses.replace(state, orders=(*state.orders, *orders), next_trade=state.next_trade + opened)
    total = sum(abs(leg.contracts) for order in orders for leg in order.legs)
    price = {(d.contract, d.contracts > 0): d.price_parts for d in action.deals}
    fills, left = [], action.commission
    for number, order in enumerate(orders):
        own = sum(abs(leg.contracts) for leg in order.legs)
        share = left if number == len(orders) - 1 else (action.commission * own / total).quantize(Decimal("0.01"))
        left -= share
        prices = tuple(price[leg.contract, leg.contracts > 0] for leg in order.legs)
        fills.append(Fill(order.id, observation.instant, prices, share))
    out.state = given
    out.take(apply_fills(plan, given, observation, fills))


def _orders(state: EngineState, observation: Observation, action: Action) -> list[Order]:
    legs: dict[int, list[OrderLeg]] = {}
    held = {(trade.number, leg.leg_id): leg.contracts for trade in state.trades for leg in trade.legs}
    rest: list[tuple[Deal, int]] = []
    for item in action.deals:
        left = item.contracts
        for trade in state.trades:
            for leg in trade.legs:
                have = held[trade.number, leg.leg_id]
                if leg.contract == item.contract and have * left < 0:
                    closed = min(abs(have), abs(left)) * (1 if left > 0 else -1)
                    legs.setdefault(trade.number, []).append(OrderLeg(leg.leg_id, leg.contract, closed))
                    held[trade.number, leg.leg_id] += closed
                    left -= closed
        if left:
            rest.append((item, left))
    opening: dict[int, list[OrderLeg]] = {}
    for symbol in dict.fromkeys(item.contract.underlying for item, _ in rest):
        # the oldest trade of its underlying takes it, else it begins one
        joins = next((trade for trade in state.trades if trade.symbol == symbol), None)
        new = state.next_trade + sum(number >= state.next_trade for number in opening)
        opening[joins.number if joins else new] = [
            OrderLeg(_leg_name(joins, item), item.contract, left)
            for item, left in rest
            if item.contract.underlying == symbol
        ]
    out = []
    for trade_number in sorted({*legs, *opening}):
        added = opening.get(trade_number, [])
        own = legs.get(trade_number, []) + added
        purpose: Purpose = "open" if trade_number >= state.next_trade else "adjust" if added else "close"
        lots = math.gcd(*(leg.contracts for leg in own))
        out.append(
            Order(
                f"{trade_number}-hand-{observation.instant}", purpose, trade_number, lots, tuple(own),
                observation.instant, observation.date, action.rule, {}, entry=action.entry,
            )
        )  # fmt: skip
    return out


def _leg_name(trade: TradeState | None, item: Deal) -> str:
    """The leg a deal adds to: one that holds its contract, else a new one of its own name."""
    for leg in trade.legs if trade else ():
        if leg.contract == item.contract:
            return leg.leg_id
    return item.leg or item.contract.code
