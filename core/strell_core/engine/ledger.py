"""What an account holds, from its fills: shared by replay, paper and broker accounts."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from decimal import Decimal
from fractions import Fraction
from typing import NamedTuple

from strell_core.market.instruments import ContractKey
from strell_core.market.prices import money, parts_to_money


@dataclass(frozen=True)
class Held:
    """One contract of an account. ``average`` opening price in parts, ``realised`` parts times contracts."""

    contract: ContractKey
    contracts: int
    average: Fraction = Fraction(0)
    realised: Fraction = Fraction(0)
    settled_at: int | None = None


class Move(NamedTuple):
    """So many contracts bought (positive) or sold at a price in parts."""

    contract: ContractKey
    contracts: int
    price_parts: int


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


def holdings(moves: Iterable[Move]) -> dict[ContractKey, Held]:
    """What is held of each contract after ``moves``, contracts that are flat again included."""
    held: dict[ContractKey, Held] = {}
    for move in moves:
        held[move.contract] = take(held.get(move.contract, Held(move.contract, 0)), move.contracts, move.price_parts)
    return held


def options_in(legs: Iterable[tuple[ContractKey, int]]) -> int:
    """Contracts of options among what is bought and sold: what commission is paid for."""
    return sum(abs(contracts) for contract, contracts in legs if not contract.is_unit)


def cash_of(contracts: int, price_parts: int, quantum: Decimal, multiplier: int) -> Decimal:
    """Money that buying (positive) or selling moves: paid negative, taken in positive, to the cent."""
    return money(parts_to_money(-contracts * price_parts, quantum, multiplier))
