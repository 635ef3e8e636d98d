"""A replay session's position at an instant, from its fills. Average price, realised in parts."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from decimal import Decimal
from fractions import Fraction

from replay.models import ReplayFill
from strell_core.engine.settlement import settlement_parts
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS, money
from strell_core.market.timeline import Timeline


@dataclass(frozen=True)
class Held:
    contract: ContractKey
    contracts: int
    average: Fraction
    """Average opening price in parts."""
    realised: Fraction = Fraction(0)
    """Parts times contracts."""
    settled_at: int | None = None


@dataclass(frozen=True)
class Position:
    held: tuple[Held, ...]
    cash: Decimal
    costs: Decimal

    @property
    def realised(self) -> Fraction:
        return sum((h.realised for h in self.held), Fraction(0))

    @property
    def open(self) -> list[Held]:
        return [h for h in self.held if h.contracts]


def take(held: Held, contracts: int, price: int) -> Held:
    """A holding after buying (positive) or selling ``contracts`` at ``price`` parts."""
    now = held.contracts
    if now == 0 or (now > 0) == (contracts > 0):
        total = held.average * abs(now) + price * abs(contracts)
        return replace(held, contracts=now + contracts, average=total / abs(now + contracts))
    closed = min(abs(now), abs(contracts)) * (1 if now > 0 else -1)
    realised = held.realised + closed * (price - held.average)
    left = now + contracts
    turned = abs(contracts) > abs(now)
    average = Fraction(price) if turned else held.average if left else Fraction(0)
    return replace(held, contracts=left, average=average, realised=realised)


def position(history: Timeline, fills: Iterable[ReplayFill], cash: Decimal, at: int) -> Position:
    """Holdings and cash at epoch second ``at``: fills up to it, expired contracts settled in cash."""
    held: dict[ContractKey, Held] = {}
    costs = Decimal(0)
    scale = history.underlying.quantum * history.underlying.multiplier / PARTS
    for fill in fills:
        if fill.at > at:
            continue
        contract = ContractKey.parse(fill.contract)
        held[contract] = take(held.get(contract, Held(contract, 0, Fraction(0))), fill.contracts, fill.price_parts)
        cash += money(Decimal(-fill.contracts * fill.price_parts) * scale) - fill.commission
        costs += fill.commission
    for contract, item in list(held.items()):
        value = settlement_parts(history, contract, at)
        if value is not None and item.contracts:
            cash += money(Decimal(item.contracts * value) * scale)
            settled = history.cubes[contract.expiration].settlement_at
            held[contract] = replace(take(item, -item.contracts, value), settled_at=settled)
    return Position(tuple(held[key] for key in sorted(held)), cash, costs)
