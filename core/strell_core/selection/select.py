"""Picking a structure's contracts by rule at one instant, remembering what was passed over."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from strell_core.market.instruments import ContractKey, strike_of, thousandths
from strell_core.market.timeline import NO_QUOTE_AT_ALL, ChainView, ExpirationSlice
from strell_core.measures.frames import Ints, PickedLeg
from strell_core.strategy import catalogue, kinds
from strell_core.strategy.document import LegRule


@dataclass(frozen=True)
class Candidate:
    """A contract that was looked at. ``rank`` 0 was picked; ``distance`` in the pick's own grid."""

    contract: ContractKey
    rank: int
    distance: int


@dataclass(frozen=True)
class LegChoice:
    """How one leg was decided."""

    leg_id: str
    expirations: tuple[dt.date, ...]
    """Expirations that the pick allowed, best first."""
    candidates: tuple[Candidate, ...]
    picked: PickedLeg | None
    message: str = ""
    """Why nothing was picked."""


@dataclass(frozen=True)
class Selection:
    choices: tuple[LegChoice, ...]

    @property
    def legs(self) -> tuple[PickedLeg, ...]:
        return tuple(choice.picked for choice in self.choices if choice.picked is not None)

    @property
    def failed(self) -> LegChoice | None:
        return next((choice for choice in self.choices if choice.picked is None), None)


def select(legs: Sequence[LegRule], view: ChainView, today: dt.date, runners_up: int = 0) -> Selection:
    """Pick every leg in the sheet's order; the first that cannot be picked ends the search. A contract that an earlier
    leg trades the other way round is passed over."""
    catalogue.load()
    choices: list[LegChoice] = []
    anchor: dt.date | None = None
    listed = view.expirations
    for leg in legs:
        other_way = [
            choice.picked.contract
            for choice in choices
            if choice.picked is not None and choice.picked.contracts * leg.contracts < 0
        ]
        choice = _choose(leg, view, today, listed, anchor, other_way, runners_up)
        choices.append(choice)
        if choice.picked is None:
            break
        if not choice.picked.contract.is_unit:
            anchor = anchor or choice.picked.contract.expiration
    return Selection(tuple(choices))


def _choose(
    leg: LegRule, view: ChainView, today: dt.date, listed: list[dt.date], anchor: dt.date | None,
    other_way: Sequence[ContractKey], runners_up: int,
) -> LegChoice:  # fmt: skip
    if leg.expiry is None or leg.strike is None:
        contract = ContractKey.unit(view.underlying.symbol)
        if not view.underlying.dealt:
            return LegChoice(
                leg.id, (), (), None, f"{view.underlying.symbol} is an index, which cannot be dealt in itself"
            )
        return LegChoice(leg.id, (), (), PickedLeg(leg.id, contract, leg.contracts, NO_QUOTE_AT_ALL))
    allowed = kinds.expiry_picks[leg.expiry.kind].choose(today, listed, anchor, leg.expiry.params)
    if not allowed:
        return LegChoice(leg.id, (), (), None, "no listed expiration fits")
    chain, pick = view.slice(allowed[0], leg.right), kinds.strike_picks[leg.strike.kind]
    distance = pick.distance(chain, view, leg.strike.params)

    def contract_of(row: int) -> ContractKey:
        return ContractKey(allowed[0], leg.right, strike_of(thousandths(chain.strikes[row])), view.underlying.symbol)

    ranked = rank_strikes(chain, distance)
    taken = {float(c.strike) for c in other_way if (c.expiration, c.right) == (allowed[0], leg.right)}
    order = [row for row in ranked if chain.strikes[row] not in taken] if taken else ranked
    if not order:
        why = "is traded the other way round by another leg" if ranked else "has the quotes the pick needs"
        which = "every strike" if ranked else "no strike"
        return LegChoice(leg.id, tuple(allowed), (), None, f"{which} of {allowed[0]:%-d %b} {why}")
    if distance[order[0]] > pick.tolerance(view, leg.strike.params):
        nearest = contract_of(order[0]).label
        return LegChoice(
            leg.id, tuple(allowed), (), None, f"the nearest, {nearest}, is farther from what is wanted than allowed"
        )
    candidates = tuple(
        Candidate(contract_of(row), rank, int(distance[row])) for rank, row in enumerate(order[: runners_up + 1])
    )
    contract = candidates[0].contract
    return LegChoice(
        leg.id, tuple(allowed), candidates, PickedLeg(leg.id, contract, leg.contracts, view.quote(contract))
    )


def rank_strikes(chain: ExpirationSlice, distance: Ints) -> list[int]:
    """Rows allowed by a pick, nearest first; ties go further out of the money (semantics rule 6)."""
    allowed = np.flatnonzero(distance >= 0)
    outward = chain.strikes[allowed] * (-1 if chain.right == "call" else 1)
    order: list[int] = allowed[np.lexsort((outward, distance[allowed]))].tolist()
    return order
