"""Picking a structure's contracts by rule at one instant, remembering what was passed over."""

from __future__ import annotations

import dataclasses
import datetime as dt
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import islice

import numpy as np
import numpy.typing as npt

from strell_core.market.instruments import ContractKey, strike_of, thousandths
from strell_core.market.view import NO_QUOTE_AT_ALL, ChainView, ExpirationSlice
from strell_core.measures.frames import Frame, Ints, PickedLeg
from strell_core.strategy import catalogue, kinds
from strell_core.strategy.document import LegRule, Rule
from strell_core.strategy.kinds import Picking, StrikePick
from strell_core.strategy.whole import names_in


@dataclass(frozen=True)
class Candidate:
    """A contract that was looked at. ``rank`` 0 was picked; ``distance`` in the pick's own grid."""

    contract: ContractKey
    rank: int
    distance: int
    too_far: bool = False
    """Farther from what is wanted than the pick allows."""


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
    left_out: bool = False
    """It goes on without this leg."""


@dataclass(frozen=True)
class Selection:
    choices: tuple[LegChoice, ...]

    @property
    def legs(self) -> tuple[PickedLeg, ...]:
        return tuple(choice.picked for choice in self.choices if choice.picked is not None)

    @property
    def failed(self) -> LegChoice | None:
        """The leg for which nothing was found; the last one, where every option was left out."""
        found = next((choice for choice in self.choices if choice.picked is None and not choice.left_out), None)
        if found is None and all(leg.contract.is_unit for leg in self.legs):
            return self.choices[-1]
        return found


Allows = Callable[[ExpirationSlice], npt.NDArray[np.bool_]]
"""Strikes ``(strikes,)`` that picks may take at all."""


def select(
    legs: Sequence[LegRule], frame: Frame, view: ChainView, runners_up: int = 0, allows: Sequence[Allows] = (),
    held: Sequence[tuple[str, ContractKey, int]] = (), walked: int = 0,
) -> Selection:  # fmt: skip
    """Pick every leg in the sheet's order; the first that cannot be picked, and may not be left out, ends the search.
    A contract that an earlier leg trades the other way round is passed over. What refers to a leg that was left out is
    left out too (semantics rule 4). ``held``: legs of the trade, which count as picked before. ``walked``: so many of
    the best expirations are passed over by legs that walk out."""
    catalogue.load()
    choices: list[LegChoice] = []
    before = [PickedLeg(name, contract, contracts, view.quote(contract)) for name, contract, contracts in held]
    for leg in legs:
        choice = next_choice(leg, choices, frame, view, runners_up, allows, before, walked)
        assert choice is not None
        choices.append(choice)
        if choice.picked is None and not choice.left_out:
            break
    return Selection(tuple(choices))


def next_choice(
    leg: LegRule, choices: Sequence[LegChoice], frame: Frame, view: ChainView, runners_up: int, allows: Sequence[Allows],
    held: Sequence[PickedLeg] = (), walked: int = 0, later: int = 0,
) -> LegChoice | None:  # fmt: skip
    """How a leg is decided after those before it, as :func:`select` does. ``later``: so many of the best expirations are
    passed over by a leg that chooses its own; ``None``: it has none left, or goes by another's."""
    out = {choice.leg_id for choice in choices if choice.left_out}
    there = [*held, *(choice.picked for choice in choices if choice.picked is not None)]
    other_way = [other.contract for other in there if other.contracts * leg.contracts < 0]
    named = {other.leg_id: other.contract for other in there if not other.contract.is_unit}
    if out and refers_to(leg) & out:
        return (
            LegChoice(leg.id, (), (), None, "it goes by a leg that is left out", left_out=True) if not later else None
        )
    if later and (leg.expiry is None or not kinds.expiry_picks[leg.expiry.kind].stands_alone):
        return None
    picking = Picking(frame, view, named, there)
    choice = _choose(leg, picking, view.expirations, other_way, runners_up, allows, walked, later)
    if choice is not None and choice.picked is None and leg.optional:
        choice = dataclasses.replace(choice, left_out=True)
    return choice


def selected(legs: Sequence[LegRule], contracts: Mapping[str, ContractKey], view: ChainView) -> Selection:
    """Legs in contracts that are known, as far as each has a valid quote that it can be opened on; those that have none of
    these are left out."""
    choices = []
    for leg in legs:
        contract = contracts.get(leg.id)
        if contract is None:
            choices.append(LegChoice(leg.id, (), (), None, "it was not there before", left_out=True))
            continue
        quote = NO_QUOTE_AT_ALL if contract.is_unit else view.quote(contract)
        if not contract.is_unit and (not quote.valid or (leg.contracts < 0 and quote.bid == 0)):
            choices.append(LegChoice(leg.id, (), (), None, f"{contract.label} has no quotes that it can be opened on"))
            break
        choices.append(LegChoice(leg.id, (), (), PickedLeg(leg.id, contract, leg.contracts, quote)))
    return Selection(tuple(choices))


def walks(legs: Sequence[LegRule]) -> bool:
    """Whether any leg's expiration is looked for until the structure passes its checks."""
    catalogue.load()
    return any(leg.expiry is not None and kinds.expiry_picks[leg.expiry.kind].walks for leg in legs)


def exhausted(legs: Sequence[LegRule], selection: Selection) -> bool:
    """Whether there is no further expiration to try after a selection's: a leg that walks out has none left, or what
    stands in the way comes before any of them."""
    walking = {leg.id for leg in legs if walks([leg])}
    found = [choice for choice in selection.choices if choice.leg_id in walking]
    return not found or any(len(choice.expirations) < 2 for choice in found)


def refers_to(leg: LegRule) -> set[str]:
    """Legs that a leg's picks go by."""
    found = set()
    for name, rule in (("strike", leg.strike), ("expiry", leg.expiry)):
        if rule is not None:
            declaration = catalogue.picks(name)[rule.kind]
            found |= {leg for _, kind, leg in names_in(declaration, rule.params) if kind == "leg"}
    return found


def _choose(
    leg: LegRule, picking: Picking, listed: list[dt.date], other_way: Sequence[ContractKey], runners_up: int,
    allows: Sequence[Allows], walked: int, later: int = 0,
) -> LegChoice | None:  # fmt: skip
    """See :func:`next_choice`."""
    view = picking.view
    if leg.expiry is None or leg.strike is None:
        contract = ContractKey.unit(view.underlying.symbol)
        if not view.underlying.dealt:
            return LegChoice(
                leg.id, (), (), None, f"{view.underlying.symbol} is an index, which cannot be dealt in itself"
            )
        return LegChoice(leg.id, (), (), PickedLeg(leg.id, contract, leg.contracts, NO_QUOTE_AT_ALL))
    picks_expiry, pick = kinds.expiry_picks[leg.expiry.kind], kinds.strike_picks[leg.strike.kind]
    allowed = picks_expiry.choose(picking, listed, leg.expiry.params)[(walked if picks_expiry.walks else 0) + later :]
    if not allowed and later:
        return None
    if not allowed:
        return LegChoice(leg.id, (), (), None, "no listed expiration fits")
    taken = [float(c.strike) for c in other_way if (c.expiration, c.right) == (allowed[0], leg.right)]
    if allows or runners_up or not pick.of_quotes:
        return _chosen(leg, picking, allowed, pick, taken, runners_up, allows)
    # what goes by the quotes of the moment alone is chosen once for all that ask the same
    key = leg.says, tuple(allowed)
    if key not in view.computed:
        view.computed[key] = _chosen(leg, picking, allowed, pick, (), 0, ())
    found: LegChoice = view.computed[key]
    if taken and (found.picked is None or found.picked.contract.strike in taken):
        return _chosen(leg, picking, allowed, pick, taken, 0, ())
    return found


def _chosen(
    leg: LegRule, picking: Picking, allowed: Sequence[dt.date], pick: StrikePick, taken: Sequence[float],
    runners_up: int, allows: Sequence[Allows],
) -> LegChoice:  # fmt: skip
    """The strike of a leg whose expiration is known. ``taken``: strikes that another leg trades the other way round."""
    view, rule = picking.view, leg.strike
    assert rule is not None
    chain = view.slice(allowed[0], leg.right)
    distance, ranked = ranking(chain, picking, pick, rule, allows)

    def contract_of(row: int) -> ContractKey:
        return ContractKey(allowed[0], leg.right, strike_of(thousandths(chain.strikes[row])), view.underlying.symbol)

    free = (row for row in ranked if chain.strikes[row] not in taken) if taken else ranked
    order = list(islice(free, runners_up + 1))
    if not order:
        missed = "is what the pick wants" if chain.valid.any() else "has the quotes the pick needs"
        why = "is traded the other way round by another leg" if ranked else missed
        which = "every strike" if ranked else "no strike"
        return LegChoice(leg.id, tuple(allowed), (), None, f"{which} of {allowed[0]:%-d %b} {why}")
    away, most = int(distance[order[0]]), pick.tolerance(view, rule.params)
    if away > most:
        nearest, grid, unit = contract_of(order[0]).label, pick.declaration.grid, pick.declaration.unit
        told = f": {away * grid:.4g} {unit} away, at most {most * grid:.4g} is" if grid else ""
        why = f"the nearest, {nearest}, is farther from what is wanted than allowed{told}"
        return LegChoice(leg.id, tuple(allowed), (), None, why)
    candidates = tuple(
        Candidate(contract_of(row), rank, int(distance[row]), int(distance[row]) > most)
        for rank, row in enumerate(order)
    )
    contract = candidates[0].contract
    return LegChoice(
        leg.id, tuple(allowed), candidates, PickedLeg(leg.id, contract, leg.contracts, view.quote(contract))
    )


def ranking(
    chain: ExpirationSlice, picking: Picking, pick: StrikePick, rule: Rule, allows: Sequence[Allows] = ()
) -> tuple[Ints, list[int]]:
    """Each strike's distance from what a pick wants ``(strikes,)``, and the rows that it allows, nearest first. What
    rests on the quotes alone is worked out once for each that asks the same."""
    if not allows and pick.of_quotes:
        found = chain.ranked.get(rule.says)
        if found is None:
            distance = pick.distance(chain, picking, rule.params)
            found = chain.ranked[rule.says] = distance, rank_strikes(chain, distance)
        return found
    distance = pick.distance(chain, picking, rule.params)
    for may in allows:
        distance = np.where(may(chain), distance, -1)
    return distance, rank_strikes(chain, distance)


def rank_strikes(chain: ExpirationSlice, distance: Ints) -> list[int]:
    """Rows allowed by a pick, nearest first; ties go further out of the money (semantics rule 6)."""
    allowed = np.flatnonzero(distance >= 0)
    outward = chain.strikes[allowed] * (-1 if chain.right == "call" else 1)
    order: list[int] = allowed[np.lexsort((outward, distance[allowed]))].tolist()
    return order
