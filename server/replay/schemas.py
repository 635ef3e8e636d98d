"""Shapes of the replay API."""

import datetime as dt
from decimal import Decimal

from ninja import Schema

from config.schemas import Asked, Number
from observe.schemas import ChainOut, GlyphOut, GreeksOut, PayoffOut
from runs.outlook import TradeOutlook


class NewReplay(Asked):
    run: int | None = None
    trade: int | None = None
    strategy: int | None = None
    at: str | None = None
    cash: Number = Decimal(50_000)


class ReplayRow(Schema):
    id: int
    name: str
    note: str
    version: str
    """Of name and note, for a change of them."""
    strategy: int | None
    underlying: str
    cash: float
    updated_at: dt.datetime
    shown: str
    open_legs: int
    acts: str
    """What its rules do by themselves: advise, leave, or live."""
    run_trade: int | None
    run: int | None
    run_number: int | None
    """Of the run it was started from, among those of its strategy."""


class FoundReplay(Schema):
    """A session to be found by its name."""

    id: int
    name: str
    underlying: str
    strategy: str
    """Name of its strategy; nothing where it has none."""
    updated_at: dt.datetime


class Move(Asked):
    to: str


class Look(Schema):
    """What of a scene is asked for."""

    expiration: str | None = None
    payoff_at: int | None = None
    symbol: str | None = None


class OrderIn(Asked):
    contract: str
    contracts: int


class OrdersIn(Asked):
    orders: list[OrderIn]


class Describe(Asked):
    based_on: str
    """The version that was read: what was written elsewhere meanwhile is not written over."""
    name: str | None = None
    note: str | None = None


class UndoIn(Asked):
    undoes: int
    """As the scene told it: what was undone meanwhile is not undone twice."""


class ActsIn(Asked):
    acts: str


class AccountOut(Schema):
    cash: float
    costs: float
    equity: float | None
    pnl_mid: float | None
    pnl_closable: float | None
    greeks: GreeksOut


class HeldLegOut(GreeksOut):
    contract: str
    label: str
    contracts: int
    opened: float | None
    mid: float | None
    closable: float | None
    pnl: float | None
    settled: bool
    iv: float | None


class MarkOut(Schema):
    at: int
    kind: str
    text: str


class DayOut(Schema):
    """A session on the time bar, from its first to its last snapshot."""

    at: int
    until: int
    label: str


class BarOut(Schema):
    """The time bar: curves up to now, marks, and where the axis ends (epoch seconds)."""

    at: list[int]
    spot: list[float]
    pnl: list[float]
    marks: list[MarkOut]
    start: int
    end: int
    days: list[DayOut]


class SceneOut(ReplayRow):
    symbol: str
    """The underlying whose chain, payoff and prices are shown."""
    symbols: list[str]
    """All that its rules look at or trade, that of the clock first."""
    at: int
    local: str
    zone: str
    spot: float
    currency: str
    chain: ChainOut
    account: AccountOut
    legs: list[HeldLegOut]
    payoff: PayoffOut | None
    glyph: GlyphOut
    outlooks: list[TradeOutlook]
    bar: BarOut
    single: bool
    aside: int
    undoes: int | None
    """The latest fill by hand, which an undo would take back with its order."""
    is_first: bool
    is_last: bool
