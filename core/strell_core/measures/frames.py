"""What measures and conditions are evaluated on: a market over a stretch of snapshots, and beside it picked legs, a
position, an account. And truths.

Truth has three values: ``TRUE``, ``FALSE`` and ``UNVALUED``; only ``TRUE`` acts (semantics rule 4).
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.market.calendars import SessionCalendar
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Market
from strell_core.market.timeline import Timeline
from strell_core.market.view import ChainView, Quote
from strell_core.measures.memory import ConditionMemory

HEDGE = "hedge"
"""The leg that a hedge deals in: units of the underlying, more or fewer of them at every look. Its contracts are no
multiple of a trade's lots."""
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
    opened_at: int = 0
    """Epoch second at which its contract was opened, before splits under another name."""
    opened_as: ContractKey | None = None
    """What its contract was called then; ``None``: as it is now."""


@dataclass(frozen=True)
class Stretch:
    """A position over ``n`` consecutive snapshots in which its legs do not change.

    Arrays are ``(n,)``. P/L is in parts of a quantum times contracts, before costs, realised parts
    included; ``opening`` is the premium in the same unit, a credit positive; 0, and no share of it known, while units of the
    underlying are held.
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
    market: Market = field(repr=False, kw_only=True)
    symbol: str = field(default="", kw_only=True)
    """The underlying that the trade is of."""
    begin: int = field(kw_only=True)
    """Snapshot of the market's clock at which the stretch begins."""
    opened_at: int = field(default=0, kw_only=True)
    """Epoch second of the first fill."""
    worth: float = field(default=0.0, kw_only=True)
    """Money of one part of one contract."""
    adjustments: int = field(default=0, kw_only=True)
    """Adjustments that were dealt."""
    memory: tuple[ConditionMemory, ...] = field(default=(), kw_only=True)
    """What is kept of conditions on it from before the stretch."""

    def leg(self, leg_id: str) -> PositionLeg | None:
        """A held leg; ``None``: it is absent."""
        return next((leg for leg in self.legs if leg.leg_id == leg_id), None)

    def judged(self, truth: npt.NDArray[np.bool_], valued: npt.NDArray[np.bool_]) -> Truths:
        """Three-valued truths from two masks."""
        return np.where(valued, np.where(truth, TRUE, FALSE), UNVALUED).astype(np.int8)

    def from_day(self, day: int, minute: int) -> Truths:
        """Whether a time of day was reached on a day, an ordinal, or that day is over: no price is asked."""
        due = (self.ordinal > day) | ((self.ordinal == day) & self.reached(minute))
        return self.judged(due, np.ones(len(due), np.bool_))

    def first_from_day(self, day: int, minute: int, since: int) -> int:
        """The first place from ``since`` on at which :meth:`from_day` is true; -1 without one."""
        return int(first_from_day(self.ordinal, day, self.reached(minute), since))

    @cached_property
    def nearest(self) -> dt.date | None:
        """The nearest expiration that is held; ``None``: only the underlying itself is."""
        return min((leg.contract.expiration for leg in self.legs if not leg.contract.is_unit), default=None)

    @cached_property
    def firm(self) -> npt.NDArray[np.bool_]:
        """Whether there is a mark, and none that a profit target doubts."""
        return self.valued & ~self.doubtful

    @property
    def timeline(self) -> Timeline:
        """Of the underlying that the trade is of, by the clock's snapshots."""
        return self.market.on_clock(self.symbol)

    @property
    def opened_place(self) -> int | None:
        """The clock's last snapshot not after the first fill; ``None``: it is older than what is recorded."""
        return self.place(self.opened_at)

    def place(self, instant: int) -> int | None:
        """The clock's last snapshot not after a fill, which at a desk comes between two; ``None``: it is older than
        what is recorded."""
        place = int(np.searchsorted(self.market.main.times, instant, side="right")) - 1
        return None if place < 0 else place

    def since(self, place: int) -> npt.NDArray[np.float64]:
        """By what points of the underlying at a place of the clock are multiplied to be those of each snapshot ``(n,)``."""
        there = self.timeline
        if not there.splits:
            return np.ones(len(self.mid))
        own = there.units[there.session_of[self.begin : self.begin + len(self.mid)]]
        return float(there.units[int(there.session_of[place])]) / own

    @property
    def frame(self) -> Frame:
        """Where values are asked for, for conditions on this position."""
        end = self.begin + len(self.mid)
        return Frame(self.market, self.begin, end, self.symbol, position=self, memory=self.memory)


@njit(cache=True, nogil=True)
def first_from_day(ordinal: npt.NDArray[np.int32], day: int, reached: npt.NDArray[np.bool_], since: int) -> int:
    """The first place from ``since`` on at which a time of day is ``reached`` on a day, an ordinal, or that day is over; -1 without one."""
    for i in range(since, len(ordinal)):
        if ordinal[i] > day or (ordinal[i] == day and reached[i]):
            return i
    return -1


@dataclass(frozen=True)
class Structure:
    """Legs that were picked together at an instant, none of them dealt yet; contracts are of one lot."""

    legs: Sequence[PickedLeg]
    view: ChainView
    deal: Callable[[], float] | None = field(default=None, repr=False)
    """What an adjustment brings that makes it, points a lot, NaN where it cannot be dealt; ``None``: it is none."""


@dataclass(frozen=True)
class Ended:
    """How closed trades ended."""

    in_a_row: int
    since_loss: int | None
    """Sessions since the last loss; ``None``: there was none."""
    lost_today: int
    pnl_today: float


@dataclass(frozen=True)
class Past:
    """What a run remembers of itself, and its open trades."""

    all: Ended
    entry: Ended
    """Of the entry that is judged."""
    opened_with: float
    """Equity when the session began, money."""
    high: float
    """The highest equity of all session ends."""
    trades: tuple[Stretch, ...] = field(repr=False)
    """Open now, oldest first, of one snapshot each."""


@dataclass(frozen=True)
class Account:
    """What is known of the account that an entry is for."""

    open_trades: int
    """Entering, open or leaving."""
    of_entry: int
    """Those of the entry that is judged."""
    funds: Callable[[], tuple[float, float]] | None = field(default=None, repr=False)
    """Equity and free capital, money; ``None``: not known here."""
    entered_today: int = 0
    """How often the entry that is judged was made in this session."""
    all_entered_today: int = 0
    """The same of all entries."""
    past: Callable[[], Past] | None = field(default=None, repr=False)
    """``None``: not known here."""
    symbol: str = ""
    """The underlying that the entry trades."""
    of_underlying: int = 0
    """Its open trades."""
    underlying_entered_today: int = 0
    """How often its entries were made in this session."""
    memory: tuple[ConditionMemory, ...] = field(default=(), repr=False)
    """What is kept of conditions on it from before."""


def just_opened(cash: float, symbol: str) -> Account:
    """An account with so much money in which nothing was done yet."""
    none = Ended(0, None, 0, 0.0)
    return Account(0, 0, lambda: (cash, cash), past=lambda: Past(none, none, cash, cash, ()), symbol=symbol)


@dataclass(frozen=True)
class Frame:
    """Where values are asked for: snapshots ``[begin, end)`` of a market's clock, and what there is beside it."""

    market: Market = field(repr=False)
    begin: int
    end: int
    symbol: str = ""
    """The underlying that is traded."""
    position: Stretch | None = None
    structure: Structure | None = None
    account: Account | None = None
    closing: bool = False
    """On a session's last snapshot but one the clock's values are those of the last: what they decide can be done in that
    session (semantics rule 1)."""
    units_of: dt.date | None = None
    """Values in points are told in the units of this day; ``None``: each in those of its own (semantics rule 11)."""
    memory: tuple[ConditionMemory, ...] = field(default=(), repr=False)
    """What is kept of conditions on the position, or the account, from before the frame."""

    @property
    def timeline(self) -> Timeline:
        """Of the underlying that is traded, by the clock's snapshots."""
        return self.market.on_clock(self.symbol)

    def by_units(self) -> Iterator[tuple[slice, dt.date]]:
        """Its snapshots in stretches ``[a, b)`` of the frame over which no underlying is split, each with a day of it."""
        clock, begin = self.market.main, self.begin
        split = [symbol for symbol in ("", *self.market.others) if self.market.timeline(symbol).splits]
        splits = sorted({at for symbol in split for at in self.market.on_clock(symbol).splits})
        for end in [*(at for at in splits if self.begin < at < self.end), self.end]:
            if end > begin:
                yield slice(begin - self.begin, end - self.begin), clock.dates[int(clock.session_of[begin])]
            begin = end
