"""A replay session's position at an instant, from its fills. Average price, realised in parts."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from decimal import Decimal
from fractions import Fraction
from typing import NamedTuple

from replay.models import ReplayFill
from strell_core.engine.ledger import Held, Move, cash_of, holdings, take
from strell_core.engine.settlement import settlement_parts
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS
from strell_core.market.splits import after
from strell_core.market.timeline import Timeline


@dataclass(frozen=True)
class Position:
    held: tuple[Held, ...]
    cash: Decimal
    costs: Decimal
    multiplier: dict[ContractKey, int]

    @property
    def realised(self) -> Fraction:
        return sum((h.realised for h in self.held), Fraction(0))

    @property
    def realised_quanta(self) -> float:
        """Realised parts times contracts times multiplier, in quanta."""
        return sum(float(h.realised) * self.multiplier[h.contract] for h in self.held) / PARTS

    @property
    def open(self) -> list[Held]:
        return [h for h in self.held if h.contracts]


class Deal(NamedTuple):
    """A fill as its contract is called and counted later."""

    at: int
    contract: ContractKey
    contracts: int
    price_parts: int
    commission: Decimal


def carried(history: Timeline, fills: Iterable[ReplayFill], until: int) -> list[Deal]:
    """Fills carried over the splits between each and epoch second ``until``; over one that contracts cannot follow
    they stay as they are, and go without a quote."""
    out = []
    for fill in fills:
        contract = ContractKey.parse(fill.contract)
        count = history.multiplied(fill.at, until)
        later = after(contract, count)
        cube = history.cubes.get(later.expiration)
        if count == 1 or cube is None or cube.row(later.right, later.strike) is None:
            out.append(Deal(fill.at, contract, fill.contracts, fill.price_parts, fill.commission))
        else:
            price = round(Fraction(fill.price_parts, count))
            out.append(Deal(fill.at, later, fill.contracts * count, price, fill.commission))
    return out


def position(history: Timeline, fills: Iterable[ReplayFill], cash: Decimal, at: int) -> Position:
    """Holdings and cash at epoch second ``at``: fills up to it, expired contracts settled in cash."""
    made = [fill for fill in fills if fill.at <= at]
    deals = carried(history, made, at)
    held = holdings(Move(deal.contract, deal.contracts, deal.price_parts) for deal in deals)
    costs = sum((deal.commission for deal in deals), Decimal(0))
    multiplier = multipliers(history, deals)
    quantum = history.underlying.quantum
    for fill, deal in zip(made, deals, strict=True):
        cash += cash_of(fill.contracts, fill.price_parts, quantum, multiplier[deal.contract])
    for contract, item in list(held.items()):
        value = settlement_parts(history, contract, at)
        if value is not None and item.contracts:
            cash += cash_of(-item.contracts, value, quantum, multiplier[contract])
            settled = history.cubes[contract.expiration].settlement_at
            held[contract] = replace(take(item, -item.contracts, value), settled_at=settled)
    return Position(tuple(held[key] for key in sorted(held)), cash - costs, costs, multiplier)


def multipliers(history: Timeline, deals: Iterable[Deal]) -> dict[ContractKey, int]:
    """Each contract's multiplier: that of the day it was first dealt in."""
    out: dict[ContractKey, int] = {}
    for deal in deals:
        if deal.contract not in out:
            out[deal.contract] = history.underlying.on(history.date_at(deal.at)).multiplier
    return out
