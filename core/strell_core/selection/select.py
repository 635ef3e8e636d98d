"""Picking a structure's contracts by rule at one instant, remembering what was passed over."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from strell_core.market.instruments import ContractKey, strike_of, thousandths
from strell_core.market.timeline import ChainView, ExpirationSlice
from strell_core.strategy import catalogue, kinds
from strell_core.strategy.document import LegRule
from strell_core.strategy.kinds import Ints, PickedLeg


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
    """Pick every leg in the sheet's order; the first that cannot be picked ends the search."""
    catalogue.load()
    choices: list[LegChoice] = []
    anchor: dt.date | None = None
    listed = view.expirations
    for leg in legs:
        choice = _choose(leg, view, today, listed, anchor, runners_up)
        choices.append(choice)
        if choice.picked is None:
            break
        anchor = anchor or choice.picked.contract.expiration
    return Selection(tuple(choices))


def _choose(
    leg: LegRule, view: ChainView, today: dt.date, listed: list[dt.date], anchor: dt.date | None, runners_up: int
) -> LegChoice:
    allowed = kinds.expiry_picks[leg.expiry.kind].choose(today, listed, anchor, leg.expiry.params)
    if not allowed:
        return LegChoice(leg.id, (), (), None, "no listed expiration fits")
    chain = view.slice(allowed[0], leg.right)
    distance = kinds.strike_picks[leg.strike.kind].distance(chain, view, leg.strike.params)
    order = rank_strikes(chain, distance)
    if len(order) == 0:
        return LegChoice(
            leg.id, tuple(allowed), (), None, f"no strike of {allowed[0]:%-d %b} has the quotes the pick needs"
        )
    candidates = tuple(
        Candidate(
            ContractKey(allowed[0], leg.right, strike_of(thousandths(chain.strikes[i])), view.underlying.symbol),
            rank,
            int(distance[i]),
        )
        for rank, i in enumerate(order[: runners_up + 1])
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
