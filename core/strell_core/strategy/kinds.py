"""Kinds of declared sentences and picks, and what each is given to decide on (:mod:`strell_core.measures.frames`)."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from functools import cached_property
from typing import Literal

import numpy as np
import numpy.typing as npt

from strell_core.market.instruments import ContractKey
from strell_core.market.market import Observation
from strell_core.market.view import ChainView, ExpirationSlice
from strell_core.measures.declaration import Declaration
from strell_core.measures.frames import (
    TRUE,
    Account,
    Frame,
    Ints,
    Params,
    PickedLeg,
    Stretch,
    Structure,
    Truths,
    Values,
    Verdict,
)
from strell_core.measures.registry import Registry
from strell_core.strategy.actions import Close, Consequence, Move
from strell_core.strategy.compiled import Numbers
from strell_core.strategy.schedule import Schedule


@dataclass(frozen=True)
class EntryFrame:
    """What an entry's conditions, checks and size may know at a look."""

    observation: Observation
    account: Account
    symbol: str = ""
    """The underlying that the entry trades."""
    again: bool = False
    """It is a re-entry."""

    def frame(self, legs: Sequence[PickedLeg] = (), view: ChainView | None = None) -> Frame:
        """Where values are asked for: the instant, with picked legs where there are any."""
        index, structure = self.observation.index, None if view is None else Structure(legs, view)
        return Frame(
            self.observation.market, index, index + 1, self.symbol, None, structure, self.account, memory=self.account.memory
        )  # fmt: skip


@dataclass(frozen=True)
class ScheduleRule:
    """When an entry is looked at. ``schedule(params, decides_single)`` makes its schedule."""

    declaration: Declaration
    schedule: Callable[[Params, bool], Schedule]

    def of(self, sentence: Params) -> Schedule:
        """The schedule of a sentence, whatever is done in sessions with a single snapshot."""
        return self.schedule(sentence, True)


@dataclass(frozen=True)
class EnterCondition:
    """``judge(frame, params)``: whether it holds at a look. ``over(frame, params)``: its truths ``(n,)`` over snapshots, of those
    that rest on the market alone and are told of many at once."""

    declaration: Declaration
    judge: Callable[[EntryFrame, Params], Verdict]
    over: Callable[[Frame, Params], Truths] | None = None


@dataclass(frozen=True)
class Picking:
    """Where a pick is made: the chain of the underlying that is traded, and the legs that were picked before it."""

    frame: Frame
    view: ChainView
    legs: Mapping[str, ContractKey] = field(default_factory=dict)
    """Contracts by leg, in the sheet's order; the underlying itself and legs left out are not among them."""
    picked: Sequence[PickedLeg] = ()
    """The same, and the underlying itself, as legs of one lot, or of what is held."""

    @property
    def frame_of_legs(self) -> Frame:
        """Where values are asked for that may speak of the legs that were picked before."""
        return replace(self.frame, structure=Structure(self.picked, self.view))

    @property
    def first(self) -> dt.date | None:
        """The expiration of the structure's first leg."""
        return next((contract.expiration for contract in self.legs.values()), None)


@dataclass(frozen=True)
class ExpiryPick:
    """``choose(picking, listed, params)`` ranks listed expirations, best first; empty: none."""

    declaration: Declaration
    choose: Callable[[Picking, Sequence[dt.date], Params], list[dt.date]]
    stands_alone: bool = True
    """It speaks of no other leg, so that a structure can begin with it."""
    walks: bool = False
    """Where the structure cannot be picked with the best, or fails a check, the next best is tried."""
    numbers: Callable[[Params], Numbers] | None = None
    """``numbers(params)``: the same for compiled loops."""


@dataclass(frozen=True)
class StrikePick:
    """``distance(slice, picking, params)`` gives each strike's distance from what is wanted, as whole
    numbers ``(strikes,)``; a negative one means the strike may not be picked. The nearest wins; ties
    go further out of the money, then to the lower strike (semantics rule 6). ``tolerance(view, params)`` is the
    distance beyond which even the nearest is refused, in the same numbers."""

    declaration: Declaration
    distance: Callable[[ExpirationSlice, Picking, Params], Ints]
    tolerance: Callable[[ChainView, Params], int]
    numbers: Callable[[Params, Decimal], Numbers] | None = None
    """``numbers(params, quantum)``: the same for compiled loops."""

    @cached_property
    def of_quotes(self) -> bool:
        """It goes by the quotes of the moment alone: by no other leg, and by no value that may be another trade's."""
        return not any(param.kind in ("leg", "value") for param in self.declaration.params)


@dataclass(frozen=True)
class StructureCondition:
    """``judge(frame, legs, view, params)``: whether the picked legs together are what is wanted, at that instant.
    ``least(params, quantum)``: the premium of a lot in parts, a credit positive, that a fill has to bring for it to
    hold there too."""

    declaration: Declaration
    judge: Callable[[EntryFrame, Sequence[PickedLeg], ChainView, Params], Verdict]
    least: Callable[[Params, Decimal], int | None] = lambda params, quantum: None
    allows: Callable[..., npt.NDArray[np.bool_]] | None = None
    """``allows(slice, params)``: strikes ``(strikes,)`` that picks may take at all; nothing: it asks only about what was
    picked."""
    numbers: Callable[[Params, Decimal], Numbers] | None = None
    """``numbers(params, quantum)``: the same for compiled loops."""
    chooses: Choice | None = None
    """It does not only ask: it has the legs chosen together."""


@dataclass(frozen=True)
class Choice:
    """How legs are chosen together: among the structures that ``search(params)`` says the one that is least
    ``away(frame, legs, view, params)`` from what is wanted, NaN where that is not known."""

    search: Callable[[Params], Search]
    away: Callable[[EntryFrame, Sequence[PickedLeg], ChainView, Params], float]


@dataclass(frozen=True)
class Search:
    """Among which structures legs are chosen together: strikes a leg, expirations, structures at most."""

    near: int
    expirations: int
    most: int


@dataclass(frozen=True)
class SizeRule:
    """``lots(frame, legs, params)``: how many lots of the picked legs; zero means no entry."""

    declaration: Declaration
    lots: Callable[[EntryFrame, Sequence[PickedLeg], Params], int]


ExitKind = Literal["loss", "profit", "other"]


def _whole(params: Params) -> Close:
    return Close()


def _nothing(params: Params) -> tuple[Consequence, ...]:
    return ()


@dataclass(frozen=True)
class Exit:
    """``test(stretch, params)`` gives truths ``(n,)``; ``values(stretch, params, i)`` the numbers
    for the reason at snapshot ``i``. Profit exits ignore doubtful marks by themselves.

    ``closes(params)`` says what it closes, the position unless it says otherwise; an exit of legs is given the
    stretch of these legs alone. ``then(params)`` follows when its order is complete."""

    declaration: Declaration
    kind: ExitKind
    test: Callable[[Stretch, Params], Truths]
    values: Callable[[Stretch, Params, int], Values]
    closes: Callable[[Params], Close] = _whole
    then: Callable[[Params], tuple[Consequence, ...]] = _nothing
    asks_all: bool = False
    """It is asked about the whole position, also where it closes legs."""
    kind_of: Callable[[Params], ExitKind] | None = None
    """The kind where its sentence says it."""
    first: Callable[[Stretch, Params, int], int] | None = None
    """``first(stretch, params, since)``: the first place from ``since`` on at which ``test`` is true, -1 without one, for
    those of which it can be told without asking everywhere."""
    numbers: Callable[[Params], Numbers] | None = None
    """``numbers(params)``: the same for compiled loops; a time of day as its minute, ``b``."""

    def first_true(self, stretch: Stretch, params: Params, since: int = 0) -> int:
        """The first place of a stretch from ``since`` on at which it is true; -1: at none."""
        if self.first is not None:
            return int(self.first(stretch, params, since))
        true = self.test(stretch, params)[since:] == TRUE
        at = int(true.argmax()) if len(true) else 0
        return since + at if len(true) and true[at] else -1


def _holds(params: Params) -> tuple[Consequence, ...] | None:
    return None


@dataclass(frozen=True)
class AdjustFrame:
    """What an adjustment may know at a look: the market, the trade's held legs, its stretch of one snapshot."""

    observation: Observation
    now: Stretch
    symbol: str
    lots: int
    """Held."""
    pick: Callable[[str, str], PickedLeg | None]
    """What a leg's own picks come to now beside the legs that are held, the second one aside, of one lot; ``None``: there is
    no such leg, or nothing fits."""
    deal: Callable[[Sequence[tuple[str, ContractKey, int]]], float]
    """What dealing brings, in points, that makes these legs of those that are held; NaN where one cannot be dealt."""
    unit: ContractKey
    """As what the underlying itself is dealt in."""

    @property
    def view(self) -> ChainView | None:
        """The chain of the trade's underlying."""
        return self.observation.view(self.symbol)


@dataclass(frozen=True)
class Adjustment:
    """``test(stretch, params)`` as an exit's, asked at the looks of the trade's entry; ``moves(frame, params)`` gives
    the steps that are proposed as one order, none: there is no proposal (semantics rule 17)."""

    declaration: Declaration
    test: Callable[[Stretch, Params], Truths]
    values: Callable[[Stretch, Params, int], Values]
    moves: Callable[[AdjustFrame, Params], Sequence[Move]]
    otherwise: Callable[[Params], tuple[Consequence, ...] | None] = _holds
    """What follows where nothing fits or there is not the capital for it: the position is closed, and then this;
    ``None``: it is held."""
    often: bool = False
    """It acts at every look, whatever was adjusted in the session; others once a session and trade."""


@dataclass(frozen=True)
class OrderRule:
    """A setting of fills, costs or policies; the engine reads its values. ``default``: its defaults hold without the
    sentence; otherwise nothing of it does."""

    declaration: Declaration
    default: bool = True


@dataclass(frozen=True)
class LimitRule:
    """A limit over all open trades. ``bars``: nothing is entered while its condition holds. ``closes(params)``: which trades
    are closed when it does, and ``rests(params)`` for how many more sessions nothing is entered. With neither the engine
    reads its values."""

    declaration: Declaration
    bars: bool = False
    closes: Callable[[Params], str] | None = None
    rests: Callable[[Params], int] = lambda params: 0


schedules: Registry[ScheduleRule] = Registry()
enter_conditions: Registry[EnterCondition] = Registry()
expiry_picks: Registry[ExpiryPick] = Registry()
strike_picks: Registry[StrikePick] = Registry()
structure_conditions: Registry[StructureCondition] = Registry()
size_rules: Registry[SizeRule] = Registry()
exits: Registry[Exit] = Registry()
adjustments: Registry[Adjustment] = Registry()
order_rules: Registry[OrderRule] = Registry()
limit_rules: Registry[LimitRule] = Registry()
