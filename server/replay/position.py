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
from strell_core.market.timeline import Timeline


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


def position(history: Timeline, fills: Iterable[ReplayFill], cash: Decimal, at: int) -> Position:
    """Holdings and cash at epoch second ``at``: fills up to it, expired contracts settled in cash."""
    made = [fill for fill in fills if fill.at <= at]
    moves = [Move(ContractKey.parse(fill.contract), fill.contracts, fill.price_parts) for fill in made]
    held = holdings(moves)
    costs = sum((fill.commission for fill in made), Decimal(0))
    terms = history.underlying
    cash += sum(
        (cash_of(move.contracts, move.price_parts, terms.quantum, terms.multiplier) for move in moves), Decimal(0)
    )
    for contract, item in list(held.items()):
        value = settlement_parts(history, contract, at)
        if value is not None and item.contracts:
            cash += cash_of(-item.contracts, value, terms.quantum, terms.multiplier)
            settled = history.cubes[contract.expiration].settlement_at
            held[contract] = replace(take(item, -item.contracts, value), settled_at=settled)
    return Position(tuple(held[key] for key in sorted(held)), cash - costs, costs)
