"""Kinds of declared sentences and picks, and what each is given to decide on.

Truth has three values: ``TRUE``, ``FALSE`` and ``UNVALUED``; only ``TRUE`` acts (semantics rule 4).
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from strell_core.market.calendars import SessionCalendar
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Observation
from strell_core.market.timeline import ChainView, ExpirationSlice, Quote
from strell_core.measures.declaration import Declaration
from strell_core.measures.registry import Registry
from strell_core.strategy.actions import Close, Consequence, Move
from strell_core.strategy.schedule import Schedule

TRUE, FALSE, UNVALUED = 1, 0, -1
TRUTH_WORDS = {TRUE: "true", FALSE: "false", UNVALUED: "unvalued"}
Truths = npt.NDArray[np.int8]
Ints = npt.NDArray[np.int64]
Params = Mapping[str, Any]
Values = dict[str, Any]


@dataclass(frozen=True)
class Verdict:
    """What a condition said, with the numbers it saw."""

    truth: int
    values: Values


@dataclass(frozen=True)
class EntryFrame:
    """What an entry's conditions, checks and size may know at a look."""

    observation: Observation
    open_trades: int
    """Of the strategy: entering, open or leaving."""
    entry: str = ""


@dataclass(frozen=True)
class PickedLeg:
    """A leg with the contract a rule chose. ``contracts`` is per lot, signed; the underlying itself has no quote."""

    leg_id: str
    contract: ContractKey
    contracts: int
    quote: Quote


@dataclass(frozen=True)
class PositionLeg:
    """A held leg with its quotes ``(n,)`` in parts over a stretch."""

    leg_id: str
    contract: ContractKey
    contracts: int
    opened_parts: int
    bid: Ints
    ask: Ints
    valid: npt.NDArray[np.bool_]
    best: int | None = None
    """Highest mid P/L of the leg before the stretch; ``None``: its path begins."""


@dataclass(frozen=True)
class Stretch:
    """A position over ``n`` consecutive snapshots in which its legs do not change.

    Arrays are ``(n,)``. P/L is in parts of a quantum times contracts, before costs, realised parts
    included; ``opening`` is the premium in the same unit, a credit positive.
    """

    legs: Sequence[PositionLeg]
    opening: int
    opened_on: dt.date
    calendar: SessionCalendar
    ordinal: npt.NDArray[np.int32]
    reached: Callable[[int], npt.NDArray[np.bool_]]
    """Whether each snapshot is at or after a minute of the exchange-local day, as the session allows it."""
    spot: npt.NDArray[np.int32]
    closable: Ints
    mid: Ints
    valued: npt.NDArray[np.bool_]
    """All legs have a valid quote: mid is valued, and so is what closing gives, a long that nobody bids for at 0."""
    doubtful: npt.NDArray[np.bool_]
    """The mark is too wide, or the snapshot the last of several, for a profit target to trust."""
    best: Ints
    """Highest mid P/L since the first fill, this snapshot included."""
    narrow: Callable[[Sequence[str]], Stretch] = field(repr=False, kw_only=True)
    """The same stretch of some of its legs alone, with their own opening and path (semantics rule 16)."""

    def leg(self, leg_id: str) -> PositionLeg | None:
        """A held leg; ``None``: it is absent."""
        return next((leg for leg in self.legs if leg.leg_id == leg_id), None)

    def judged(self, truth: npt.NDArray[np.bool_], valued: npt.NDArray[np.bool_]) -> Truths:
        """Three-valued truths from two masks."""
        return np.where(valued, np.where(truth, TRUE, FALSE), UNVALUED).astype(np.int8)


@dataclass(frozen=True)
class ScheduleRule:
    """When an entry is looked at. ``schedule(params, decides_single)`` makes its schedule."""

    declaration: Declaration
    schedule: Callable[[Params, bool], Schedule]


@dataclass(frozen=True)
class EnterCondition:
    declaration: Declaration
    judge: Callable[[EntryFrame, Params], Verdict]


@dataclass(frozen=True)
class ExpiryPick:
    """``choose(today, listed, other, params)`` ranks listed expirations, best first; empty: none.

    ``other`` is the expiration of the leg it refers to, if it refers to one.
    """

    declaration: Declaration
    choose: Callable[[dt.date, Sequence[dt.date], dt.date | None, Params], list[dt.date]]


@dataclass(frozen=True)
class StrikePick:
    """``distance(slice, view, params)`` gives each strike's distance from what is wanted, as whole
    numbers ``(strikes,)``; a negative one means the strike may not be picked. The nearest wins; ties
    go further out of the money, then to the lower strike (semantics rule 6). ``tolerance(view, params)`` is the
    distance beyond which even the nearest is refused, in the same numbers."""

    declaration: Declaration
    distance: Callable[[ExpirationSlice, ChainView, Params], Ints]
    tolerance: Callable[[ChainView, Params], int]


@dataclass(frozen=True)
class StructureCondition:
    """``judge(legs, view, params)``: whether the picked legs together are what is wanted, at that instant.
    ``least(params, quantum)``: the premium of a lot in parts, a credit positive, that a fill has to bring for it to
    hold there too."""

    declaration: Declaration
    judge: Callable[[Sequence[PickedLeg], ChainView, Params], Verdict]
    least: Callable[[Params, Decimal], int | None] = lambda params, quantum: None


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


@dataclass(frozen=True)
class AdjustFrame:
    """What an adjustment may know at a look: the market, the trade's held legs, its stretch of one snapshot."""

    observation: Observation
    now: Stretch
    symbol: str

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


@dataclass(frozen=True)
class OrderRule:
    """A setting of fills, costs or policies; the engine reads its values."""

    declaration: Declaration


@dataclass(frozen=True)
class LimitRule:
    """A limit over all open trades; the engine reads its values."""

    declaration: Declaration


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
