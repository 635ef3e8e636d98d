"""Contracts at an instant of a timeline, as the legs of a payoff."""

from __future__ import annotations

import math
from dataclasses import dataclass

from strell_core.market.instruments import ContractKey
from strell_core.market.prices import SPOT_SCALE
from strell_core.market.timeline import Timeline
from strell_core.pricing.payoff import PayoffLeg, underlying_leg
from strell_core.pricing.smile import Smile, smile_at


@dataclass(frozen=True)
class Holding:
    """Signed contracts of one option, or of the underlying itself, opened at a price in points; of single units at that of
    one."""

    contract: ContractKey
    contracts: int
    opened: float


def payoff_leg(timeline: Timeline, index: int, holding: Holding) -> PayoffLeg:
    """A holding with its volatility, forward and dividends as they are quoted at snapshot ``index``."""
    if holding.contract.is_unit:
        return underlying_leg(holding.contracts / holding.contract.divisor, holding.opened)
    view = timeline.view(index)
    quote = view.quote(holding.contract)
    forward = view.forward(holding.contract.expiration)
    spot = view.spot / SPOT_SCALE
    settlement = timeline.cubes[holding.contract.expiration].settlement_at
    seconds, paid = view.dividends(settlement)
    dividends = tuple(zip((view.instant + seconds.astype(int)).tolist(), paid.tolist(), strict=True))
    return PayoffLeg(
        holding.contracts, 1 if holding.contract.right == "call" else -1, holding.contract.strike,
        settlement, (quote.iv or 0) / 10_000 if quote.iv else math.nan,
        forward if math.isfinite(forward) else spot, holding.opened, view.underlying.american,
        view.interest(holding.contract.expiration),
        dividends,
    )  # fmt: skip


def smile_of(timeline: Timeline, index: int, settlement: int) -> Smile | None:
    """The fitted curve of the expiration that settles then, ``None`` where its quotes do not give one."""
    key = ("smile", index, settlement)
    known: tuple[Smile | None] | None = timeline.computed.get(key)
    if known is None:
        view = timeline.view(index)
        date = next((date for date in view.expirations if timeline.cubes[date].settlement_at == settlement), None)
        known = timeline.computed[key] = (None if date is None else smile_at(view, date),)
    return known[0]
