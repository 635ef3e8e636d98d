"""Capital: what open trades and opening orders tie up, and what is left of equity (semantics rule 18)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from strell_core.engine.fills import price_of
from strell_core.engine.marks import carried
from strell_core.engine.plan import Plan
from strell_core.engine.state import Order, TradeState
from strell_core.margin import strategy_based as margin
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Market
from strell_core.market.prices import PARTS, grouped
from strell_core.market.timeline import Timeline
from strell_core.market.view import ChainView

CENT = 0.005
"""Amounts of money this near are the same."""


class Backed(NamedTuple):
    """So many contracts (signed) that have to be backed, at a price in parts."""

    contract: ContractKey
    contracts: int
    parts: int


@dataclass(frozen=True)
class Funds:
    """Equity and the capital that is needed at an instant, in money: for decisions, never for the ledger."""

    equity: float
    needed: float

    @property
    def free(self) -> float:
        return self.equity - self.needed


def needed(timeline: Timeline, index: int, legs: Iterable[Backed], multiplier: int) -> float:
    """Capital of legs that belong together, in money: :func:`strell_core.margin.strategy_based.capital` at their
    prices. ``timeline``: of their underlying, by the clock's snapshots."""
    point, legs = float(timeline.underlying.quantum) / PARTS, list(legs)
    units = sum(leg.contracts / leg.contract.divisor for leg in legs if leg.contract.is_unit)
    found = [
        margin.Leg.of(leg.contract, leg.contracts, timeline.settles_at, leg.parts * point)
        for leg in legs
        if not leg.contract.is_unit
    ]
    spot = int(timeline.spot[index]) / 100
    return margin.capital(found, spot, margin.share_of(timeline.underlying.kind), units) * multiplier


def needed_over(
    timeline: Timeline, at: npt.NDArray[np.int64], legs: Sequence[Backed], parts: npt.NDArray[np.int64], multiplier: int,
) -> npt.NDArray[np.float64]:  # fmt: skip
    """:func:`needed` of option legs at snapshots ``at`` ``(n,)``, at their prices ``parts`` ``(legs, n)``."""
    point = float(timeline.underlying.quantum) / PARTS
    found = [margin.Leg.of(leg.contract, leg.contracts, timeline.settles_at) for leg in legs]
    spot = timeline.spot[at].astype(np.float64) / 100
    return (
        margin.capital_over(found, parts.astype(np.float64) * point, spot, margin.share_of(timeline.underlying.kind))
        * multiplier
    )


def held(timeline: Timeline, trade: TradeState, index: int) -> list[Backed]:
    """A trade's legs at mid, at their last valid one where there is none now."""
    return [Backed(leg.contract, leg.contracts, carried(timeline, trade, leg, index)) for leg in trade.legs]


def _asked(timeline: Timeline, order: Order, index: int) -> list[Backed]:
    """What an opening order would bring, at mid; at nothing where there is none."""
    out = []
    for leg in order.legs:
        bid, ask = timeline.quote_at(leg.contract, index)
        out.append(Backed(leg.contract, leg.contracts, (bid + ask) // 2 if 0 <= bid <= ask else 0))
    return out


def of_order(market: Market, order: Order, index: int) -> float:
    """Capital that an opening order at work needs."""
    timeline = market.on_clock(order.symbol)
    return needed(timeline, index, _asked(timeline, order, index), timeline.multiplier(market.date(index)))


def of_trade(market: Market, trade: TradeState, index: int) -> float:
    """Capital that a trade needs."""
    timeline = market.on_clock(trade.symbol)
    return needed(timeline, index, held(timeline, trade, index), timeline.multiplier(trade.opened_on))


def funds(market: Market, index: int, cash: float, trades: Sequence[TradeState], orders: Sequence[Order]) -> Funds:
    """Cash plus trades at mid, and what these and opening orders at work need."""
    equity, sum_needed = cash, 0.0
    opening = {order.trade: order for order in orders if order.purpose == "open"}
    for trade in trades:
        timeline = market.on_clock(trade.symbol)
        multiplier, legs = timeline.multiplier(trade.opened_on), held(timeline, trade, index)
        point = float(timeline.underlying.quantum) / PARTS
        equity += sum(leg.contracts * leg.parts for leg in legs) * point * multiplier
        rest = opening.pop(trade.number, None)
        if rest is not None:
            # what is still to come stands beside what is there
            legs += _asked(timeline, rest, index)
        sum_needed += needed(timeline, index, legs, multiplier)
    for order in opening.values():
        sum_needed += of_order(market, order, index)
    return Funds(equity, sum_needed)


def funds_over(
    market: Market, at: Sequence[int], cash: float, trades: Sequence[TradeState], orders: Sequence[Order]
) -> list[Funds]:
    """:func:`funds` at several snapshots between which nothing happens."""
    if any(order.purpose == "open" for order in orders) or any(leg.contract.is_unit for t in trades for leg in t.legs):
        return [funds(market, index, cash, trades, orders) for index in at]
    where = np.array(at, np.int64)
    equity, sum_needed = np.full(len(at), cash), np.zeros(len(at))
    for trade in trades:
        timeline = market.on_clock(trade.symbol)
        multiplier, point = timeline.multiplier(trade.opened_on), float(timeline.underlying.quantum) / PARTS
        parts = np.array([[carried(timeline, trade, leg, index) for index in at] for leg in trade.legs], np.int64)
        legs = [Backed(leg.contract, leg.contracts, 0) for leg in trade.legs]
        equity += np.array([leg.contracts for leg in legs], np.int64) @ parts * point * multiplier
        sum_needed += needed_over(timeline, where, legs, parts, multiplier)
    return [Funds(*both) for both in zip(equity.tolist(), sum_needed.tolist(), strict=True)]


def new(plan: Plan, view: ChainView, contract: ContractKey, contracts: int) -> Backed:
    """What an order would bring, at its fill price, else at mid."""
    quote = view.quote(contract)
    price = price_of(plan, view, contract, contracts, plan.strategy.orders["fill_model"]["share"])
    mid = (quote.bid + quote.ask) * (PARTS // 2) if quote.valid else 0
    return Backed(contract, contracts, mid if price is None else price)


def of_new(plan: Plan, view: ChainView, legs: Iterable[tuple[ContractKey, int]]) -> float:
    """Capital that contracts, to be opened at their underlying's snapshot ``view``, would need."""
    backed = [new(plan, view, contract, contracts) for contract, contracts in legs]
    return needed(view.timeline, view.index, backed, view.timeline.multiplier(view.date))


def limits_entries(plan: Plan) -> bool:
    """Whether the sheet enters nothing for which the capital is not free."""
    return bool(plan.strategy.limits["capital"].params["entries"] != "allow")


def refuses(plan: Plan, needed: float, free: float) -> bool:
    """Whether the sheet enters nothing for which ``needed`` capital is not ``free``."""
    return limits_entries(plan) and needed > free + CENT


def short_of(needed: float, free: float, currency: str) -> dict[str, Any]:
    """What is said of capital that is needed and not free."""
    words = f"needs {grouped(needed)} {currency} of capital, {grouped(free)} {currency} is free"
    return {"message": words, "needed": round(needed, 2), "free": round(free, 2)}


def next_close(timeline: Timeline, index: int) -> int:
    """The last snapshot of the session that snapshot ``index`` belongs to; the end behind the timeline."""
    if index >= len(timeline.times):
        return len(timeline.times)
    last = int(timeline.first[int(timeline.session_of[index]) + 1]) - 1
    return last if bool(timeline.is_last[last]) else len(timeline.times)
