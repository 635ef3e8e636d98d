"""What the engine remembers between snapshots, and what it says. All of it serialises to JSON; what an earlier
version stored is read by :mod:`strell_core.engine.stored`."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any, Literal

from strell_core.engine.changed import changed
from strell_core.engine.plain import UNSAID
from strell_core.engine.record import NOTHING_YET, Outcome, Record, Rest
from strell_core.market.instruments import ContractKey
from strell_core.measures.frames import HEDGE, PositionLeg
from strell_core.measures.memory import ConditionMemory
from strell_core.strategy.actions import Consequence

DELIVERY = "delivery"
"""The rule that closes delivered units which no leg of the sheet asks for."""
Purpose = Literal["open", "close", "adjust"]
OrderType = Literal["market", "limit"]
Urgency = Literal["now", "patient"]


@dataclass(frozen=True)
class OrderLeg:
    leg_id: str
    contract: ContractKey
    contracts: int
    """Signed: bought positive, sold negative."""


def with_units(legs: Iterable[LegState | LegClose | PositionLeg]) -> bool:
    """Whether units of the underlying are among legs, a hedge aside: what they make is no share of a premium (semantics
    rule 5)."""
    return any(leg.contract.is_unit and leg.leg_id != HEDGE for leg in legs)


def in_lots(lots: int, legs: Iterable[OrderLeg]) -> int:
    """So many lots, or fewer, as go into every leg of an order."""
    return math.gcd(lots, *(leg.contracts for leg in legs))


def symbol_of(legs: Sequence[OrderLeg | LegState | LegClose]) -> str:
    """The underlying that legs of one trade are of; nothing without legs."""
    return legs[0].contract.underlying if legs else ""


def premium_of(legs: Sequence[OrderLeg | LegState], prices: Sequence[int]) -> int:
    """What dealing takes in, parts times contracts: options only, the underlying itself is no premium (semantics rule
    5)."""
    both = zip(legs, prices, strict=True)
    return -sum(leg.contracts * price for leg, price in both if not leg.contract.is_unit)


@dataclass(frozen=True)
class Order:
    """An intent: all legs at once. Opening and adjusting orders lapse with their session, closing ones stay."""

    id: str
    purpose: Purpose
    trade: int
    lots: int
    legs: tuple[OrderLeg, ...]
    decided_at: int
    session: dt.date
    rule: str
    values: Mapping[str, Any]
    also: tuple[str, ...] = ()
    """Other exits that were true in the same snapshot, recorded (semantics rule 7)."""
    ending: bool = False
    """What is left of it is to go; what replaces it waits until that is confirmed (semantics rule 8)."""
    entry: str = ""
    """Whose trade it opens."""
    type: OrderType = "limit"
    urgency: Urgency = "patient"
    """``now``: a loss limit, which does not wait for a better price."""
    trigger: None = None
    """A price that has to be reached first; no order has one yet."""
    whole: bool = False
    """It closes the position: legs of other orders that go come to it."""
    then: tuple[Consequence, ...] = ()
    """What follows when it is complete."""
    least: int | None = None
    """Premium of a lot in parts, a credit positive, that a fill has to bring; ``None``: any."""
    turn_at: int = field(default=0, metadata=UNSAID)
    """When the legs before those whose turn it is were dealt; 0: none were."""

    @property
    def turn(self) -> int:
        """From when on the legs whose turn it is are at work."""
        return self.turn_at or self.decided_at

    @property
    def symbol(self) -> str:
        """The underlying that it deals in."""
        return symbol_of(self.legs)

    def brings(self, prices: Sequence[int]) -> bool:
        """Whether prices in parts, one a leg, bring the least that is wanted."""
        if self.least is None:
            return True
        return premium_of(self.legs, prices) >= self.least * self.lots

    def of_lots(self, lots: int) -> Order:
        """The order for so many of its lots."""
        legs = tuple(changed(leg, contracts=leg.contracts // self.lots * lots) for leg in self.legs)
        return changed(self, lots=lots, legs=legs)

    def of_legs(self, legs: Sequence[OrderLeg]) -> Order:
        """The order for some of its legs, or of their contracts, in as many lots as these go into."""
        return changed(self, lots=math.gcd(*(leg.contracts for leg in legs)), legs=tuple(legs))

    def parted(self, fill: Fill) -> tuple[Order, Order | None]:
        """What a fill deals in of it, and what is left; ``None``: nothing."""
        if not fill.dealt:
            lots = self.lots if fill.lots is None else fill.lots
            return self.of_lots(lots), self.of_lots(self.lots - lots) if lots < self.lots else None
        there = dict(fill.dealt)
        part = self.of_legs([changed(leg, contracts=there[leg.leg_id]) for leg in self.legs if leg.leg_id in there])
        legs = [changed(leg, contracts=leg.contracts - there.get(leg.leg_id, 0)) for leg in self.legs]
        rest = self.of_legs([leg for leg in legs if leg.contracts])
        if self.least is not None and rest.legs:
            rest = changed(rest, least=-((premium_of(part.legs, fill.prices) - self.least * self.lots) // rest.lots))
        if not rest.legs:
            return part, None
        # what was dealt in part goes on as it is
        begun = {leg.leg_id for leg in rest.legs} & there.keys()
        return part, rest if begun else changed(rest, turn_at=fill.at)


@dataclass(frozen=True)
class Fill:
    """What came of an order. ``prices`` in parts of a quantum, one a leg; ``commission`` in money.

    In history an order fills whole. At a market it may fill in parts: ``lots`` says how many (``None``:
    all that were left), and ``ended`` that no more will come of the order; 0 lots with ``ended``: it
    was cancelled, refused or expired.
    """

    order: str
    at: int
    prices: tuple[int, ...]
    commission: Decimal
    lots: int | None = None
    ended: bool = False
    dealt: tuple[tuple[str, int], ...] = field(default=(), metadata=UNSAID)
    """Legs with the contracts that were dealt, where these are not the order's whole lots."""


@dataclass(frozen=True)
class Piece:
    """Contracts of a leg that came together, for so many parts each."""

    contracts: int
    opened_parts: int
    opened_at: int
    """As :attr:`LegState.opened_at`."""


@dataclass(frozen=True)
class LegState:
    leg_id: str
    contract: ContractKey
    contracts: int
    opened_parts: int
    opened_at: int = 0
    """When it took another leg's place, epoch seconds; 0: it was opened with its trade."""
    best: int | None = None
    """Highest mid P/L of the leg, kept where a rule looks at legs."""
    pieces: tuple[Piece, ...] = field(default=(), metadata=UNSAID)
    """What it came together from, the oldest first, where an adjustment added to it."""

    @property
    def came(self) -> tuple[Piece, ...]:
        """All of it as it came."""
        return self.pieces or (Piece(self.contracts, self.opened_parts, self.opened_at),)


@dataclass(frozen=True)
class LegClose:
    leg_id: str
    contract: ContractKey
    contracts: int
    opened_parts: int
    closed_parts: int
    closed_at: int
    how: Literal["order", "settlement", "split", "adjustment", "exercise", "assignment", "delivery"]
    """``exercise``, ``assignment``: the underlying was delivered at the strike; ``delivery``: units left in it.
    ``adjustment``: another contract took its place. ``split``: it goes on under another name, or could not be followed and was closed at its last mid."""
    opened_at: int = 0


@dataclass(frozen=True)
class LegStop:
    """A leg leaves when its mid reaches this price in parts, against it. ``rule``: the sentence that set it."""

    leg_id: str
    parts: int
    rule: str


@dataclass(frozen=True)
class TradeState:
    """An open trade. Premium, P/L and best are in parts of a quantum times contracts, before costs."""

    number: int
    lots: int
    decided_at: int
    opened_at: int
    opened_on: dt.date
    legs: tuple[LegState, ...]
    opening: int
    realised: int = 0
    best: int | None = None
    cash: Decimal = Decimal(0)
    """Money moved so far, costs included."""
    costs: Decimal = Decimal(0)
    closed_legs: tuple[LegClose, ...] = ()
    entry: str = ""
    """The entry whose trade it is."""
    stops: tuple[LegStop, ...] = ()
    acted: tuple[str, ...] = ()
    """Rules that act once a trade and have."""
    adjusted_on: dt.date | None = None
    """Session in which it was last adjusted or meant to be."""
    adjustments: int = 0
    """Adjustments that were dealt whole."""
    reentries: int = 0
    """Which of its chain it is: 0 the first."""
    more_lots: int = field(default=0, metadata=UNSAID)
    """So many of its lots came by adjustments, or fewer than none went."""
    memory: tuple[ConditionMemory, ...] = field(default=(), metadata=UNSAID)
    """What is kept of conditions on it that hold for several snapshots, cross, or last."""

    @property
    def symbol(self) -> str:
        """The underlying that it is of."""
        return symbol_of(self.legs or self.closed_legs)

    @property
    def legs_held(self) -> tuple[tuple[str, ContractKey, int], ...]:
        """Its legs without their paths."""
        return tuple((leg.leg_id, leg.contract, leg.contracts) for leg in self.legs)


@dataclass(frozen=True)
class Due:
    """An entry to be made again, decided by a rule of a trade that left."""

    entry: str
    trade: int
    rule: str
    number: int
    later: bool = field(default=False, metadata=UNSAID)
    """It waits for the entry's next decision time."""
    contracts: tuple[tuple[str, ContractKey], ...] = field(default=(), metadata=UNSAID)
    """By leg, those in which it is made; none: fresh picks."""


@dataclass(frozen=True)
class Entered:
    """The session in which an entry was last made, re-entries among them, and how often in it."""

    entry: str
    on: dt.date
    times: int


@dataclass(frozen=True)
class EngineState:
    cash: Decimal
    next_trade: int = 1
    trades: tuple[TradeState, ...] = ()
    orders: tuple[Order, ...] = ()
    due: tuple[Due, ...] = ()
    entered: tuple[Entered, ...] = ()
    """Of every entry that was made: when last, and how often on that day."""
    outcomes: tuple[Outcome, ...] = ()
    """Of every entry with a closed trade, and of all of them."""
    record: Record = NOTHING_YET
    rests: tuple[Rest, ...] = ()
    """Limits that have acted, each with its last session."""
    memory: tuple[tuple[str, tuple[ConditionMemory, ...]], ...] = field(default=(), metadata=UNSAID)
    """By entry (none: limits), what is kept of conditions on the account."""
    interest_to: dt.date | None = field(default=None, metadata=UNSAID)
    """The session up to which interest on cash is booked, where the sheet asks for it."""

    @property
    def open_count(self) -> int:
        """Trades entering, open or leaving."""
        held = {trade.number for trade in self.trades}
        return len(held | {order.trade for order in self.orders if order.purpose == "open"})

    def open_on(self, symbol: str) -> int:
        """The same of one underlying."""
        held = {trade.number for trade in self.trades if trade.symbol == symbol}
        opening = {order.trade for order in self.orders if order.purpose == "open" and order.symbol == symbol}
        return len(held | opening)

    def open_of(self, entry: str) -> int:
        """The same of one entry."""
        held = {trade.number for trade in self.trades if trade.entry == entry}
        return len(held | {order.trade for order in self.orders if order.purpose == "open" and order.entry == entry})


ReasonKind = Literal[
    "entry", "no entry", "skipped", "lapsed", "filled", "left", "settled", "ended", "adjusted", "moved", "stop moved",
    "re-entry given up", "waits", "call", "no adjustment", "delivered", "dividend",
]  # fmt: skip


@dataclass(frozen=True)
class Reason:
    """One decision or event with the numbers behind it. ``rule`` is the sentence's id."""

    at: int
    kind: ReasonKind
    trade: int | None = None
    rule: str = ""
    truth: int | None = None
    values: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class LedgerEntry:
    """Money moved: cash + market value = equity after every entry."""

    at: int
    trade: int
    """0: of the account, not of a trade."""
    kind: Literal["premium", "commission", "settlement", "delivery", "dividend", "interest"]
    contract: ContractKey | None
    contracts: int
    price_parts: int
    amount: Decimal


@dataclass(frozen=True)
class Need:
    """Equity and the capital that open trades need at a session's last snapshot, in money."""

    at: int
    equity: float
    capital: float


@dataclass(frozen=True)
class ClosedTrade:
    """A finished trade. ``pnl`` is net money, ``gross`` parts times contracts before costs."""

    number: int
    lots: int
    decided_at: int
    opened_at: int
    closed_at: int
    legs: tuple[LegClose, ...]
    opening: int
    gross: int
    best: int
    pnl: Decimal
    costs: Decimal
    rule: str
    """Sentence that closed it, ``settlement`` or ``split``."""
    left_at: int
    """When the exit was decided."""
    values: Mapping[str, Any]
    also: tuple[str, ...]
    entry: str = ""
    reentries: int = 0
    more_lots: int = field(default=0, metadata=UNSAID)
    """See :attr:`TradeState.more_lots`."""

    @property
    def holds_units(self) -> bool:
        """Whether it held units of the underlying, a hedge aside."""
        return with_units(self.legs)

    @property
    def symbol(self) -> str:
        """The underlying that it was of."""
        return symbol_of(self.legs)


@dataclass(frozen=True)
class Advanced:
    """What one snapshot brought about."""

    state: EngineState
    intents: tuple[Order, ...]
    reasons: tuple[Reason, ...]
    entries: tuple[LedgerEntry, ...]
    closed: tuple[ClosedTrade, ...]
    needs: tuple[Need, ...] = ()
