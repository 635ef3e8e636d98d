"""What the engine remembers between snapshots, and what it says. All of it serialises to JSON."""

from __future__ import annotations

import dataclasses
import datetime as dt
import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any, Literal

from strell_core.market.instruments import ContractKey

OrderKind = Literal["open", "close"]


@dataclass(frozen=True)
class OrderLeg:
    leg_id: str
    contract: ContractKey
    contracts: int
    """Signed: bought positive, sold negative."""


@dataclass(frozen=True)
class Order:
    """An intent: all legs at once. Opening orders lapse with their session, closing ones stay."""

    id: str
    kind: OrderKind
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
    """An exit waits until the rest of this opening order is confirmed to be gone (semantics rule 8)."""

    def of_lots(self, lots: int) -> Order:
        """The order for so many of its lots."""
        legs = tuple(dataclasses.replace(leg, contracts=leg.contracts // self.lots * lots) for leg in self.legs)
        return dataclasses.replace(self, lots=lots, legs=legs)


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


@dataclass(frozen=True)
class LegState:
    leg_id: str
    contract: ContractKey
    contracts: int
    opened_parts: int
    opened_at: int = 0
    """When it took another leg's place, epoch seconds; 0: it was opened with its trade."""


@dataclass(frozen=True)
class LegClose:
    leg_id: str
    contract: ContractKey
    contracts: int
    opened_parts: int
    closed_parts: int
    closed_at: int
    how: Literal["order", "settlement", "split"]
    """``split``: it goes on under another name, or could not be followed and was closed at its last mid."""
    opened_at: int = 0


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


@dataclass(frozen=True)
class EngineState:
    cash: Decimal
    next_trade: int = 1
    trades: tuple[TradeState, ...] = ()
    orders: tuple[Order, ...] = ()

    @property
    def open_count(self) -> int:
        """Trades entering, open or leaving."""
        held = {trade.number for trade in self.trades}
        return len(held | {order.trade for order in self.orders if order.kind == "open"})

    def leaving(self, trade: int) -> bool:
        return any(order.kind == "close" and order.trade == trade for order in self.orders)


ReasonKind = Literal["entry", "no entry", "skipped", "lapsed", "filled", "left", "settled", "ended", "adjusted"]


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
    kind: Literal["premium", "commission", "settlement"]
    contract: ContractKey | None
    contracts: int
    price_parts: int
    amount: Decimal


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


@dataclass(frozen=True)
class Advanced:
    """What one snapshot brought about."""

    state: EngineState
    intents: tuple[Order, ...]
    reasons: tuple[Reason, ...]
    entries: tuple[LedgerEntry, ...]
    closed: tuple[ClosedTrade, ...]


def to_plain(value: Any) -> Any:
    """Frozen values as JSON data."""
    if isinstance(value, ContractKey):
        return value.code
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return {f.name: to_plain(getattr(value, f.name)) for f in dataclasses.fields(value)}
    if isinstance(value, Mapping):
        return {str(key): to_plain(item) for key, item in value.items()}
    if isinstance(value, tuple | list):
        return [to_plain(item) for item in value]
    if isinstance(value, Decimal):
        return str(value)
    if isinstance(value, dt.date):
        return value.isoformat()
    return value


def dump(state: EngineState) -> str:
    """A state as JSON text."""
    return json.dumps(to_plain(state), separators=(",", ":"))


def load(text: str) -> EngineState:
    """The state that :func:`dump` wrote."""
    raw = json.loads(text)
    return EngineState(
        Decimal(raw["cash"]), raw["next_trade"], tuple(_trade(item) for item in raw["trades"]),
        tuple(order_of(item) for item in raw["orders"]),
    )  # fmt: skip


def _trade(raw: dict[str, Any]) -> TradeState:
    return TradeState(
        **{
            **raw, "opened_on": dt.date.fromisoformat(raw["opened_on"]), "cash": Decimal(raw["cash"]),
            "costs": Decimal(raw["costs"]), "legs": tuple(LegState(**_leg(item)) for item in raw["legs"]),
            "closed_legs": tuple(LegClose(**_leg(item)) for item in raw["closed_legs"]),
        }
    )  # fmt: skip


def order_of(raw: dict[str, Any]) -> Order:
    """The order that :func:`to_plain` wrote."""
    legs = tuple(OrderLeg(**_leg(item)) for item in raw["legs"])
    session = dt.date.fromisoformat(raw["session"])
    return Order(**{**raw, "legs": legs, "session": session, "also": tuple(raw["also"])})


def _leg(raw: dict[str, Any]) -> dict[str, Any]:
    return {**raw, "contract": ContractKey.parse(raw["contract"])}


def closed_trade(raw: dict[str, Any]) -> ClosedTrade:
    """The closed trade that :func:`to_plain` wrote."""
    legs = tuple(LegClose(**_leg(item)) for item in raw["legs"])
    money = {key: Decimal(raw[key]) for key in ("pnl", "costs")}
    return ClosedTrade(**{**raw, **money, "legs": legs, "also": tuple(raw["also"])})


def fill_of(raw: dict[str, Any]) -> Fill:
    """The fill that :func:`to_plain` wrote."""
    return Fill(**{**raw, "prices": tuple(raw["prices"]), "commission": Decimal(raw["commission"])})
