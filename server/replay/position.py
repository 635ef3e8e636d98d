"""A replay session's position at an instant, from its fills. Average price, realised in parts."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from decimal import Decimal
from fractions import Fraction

from replay.models import ReplayFill
from strell_core.engine.ledger import Held, Move, cash_of, holdings, take
from strell_core.engine.settlement import settlement_parts
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS
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


def position(history: Timeline, fills: Iterable[ReplayFill], cash: Decimal, at: int) -> Position:
    """Holdings and cash at epoch second ``at``: fills up to it, expired contracts settled in cash."""
    made = [fill for fill in fills if fill.at <= at]
    moves = [Move(ContractKey.parse(fill.contract), fill.contracts, fill.price_parts) for fill in made]
    held = holdings(moves)
    costs = sum((fill.commission for fill in made), Decimal(0))
    multiplier = multipliers(history, made)
    quantum = history.underlying.quantum
    cash += sum(
        (cash_of(move.contracts, move.price_parts, quantum, multiplier[move.contract]) for move in moves), Decimal(0)
    )
    for contract, item in list(held.items()):
        value = settlement_parts(history, contract, at)
        if value is not None and item.contracts:
            cash += cash_of(-item.contracts, value, quantum, multiplier[contract])
            settled = history.cubes[contract.expiration].settlement_at
            held[contract] = replace(take(item, -item.contracts, value), settled_at=settled)
    return Position(tuple(held[key] for key in sorted(held)), cash - costs, costs, multiplier)


def multipliers(history: Timeline, fills: Iterable[ReplayFill]) -> dict[ContractKey, int]:
    """Each contract's multiplier: that of the day it was first dealt in."""
    out: dict[ContractKey, int] = {}
    for fill in fills:
        contract = ContractKey.parse(fill.contract)
        if contract not in out:
            out[contract] = history.underlying.on(history.date_at(fill.at)).multiplier
    return out
