"""What the desk's routes take and give."""

import datetime as dt
from decimal import Decimal
from typing import Any

from ninja import Field, Schema

from config.schemas import Asked, Number, ProblemOut
from observe.schemas import ChainOut, GlyphOut, PayoffOut
from runs.outlook import TradeOutlook
from strell_core.strategy.parts import LIMITS


class NewAccount(Asked):
    name: str
    kind: str = "paper"
    symbol: str = "MK30"
    cash: Number = Decimal(50_000)


class LevelIn(Asked):
    value: Any
    unit: str = "money"


class ProtectionIn(Asked):
    target: LevelIn | None = None
    stop: LevelIn | None = None


class LegIn(Asked):
    contract: str
    ratio: int


class TicketIn(Asked):
    legs: list[LegIn]
    lots: Any = 1
    type: str = "limit"
    limit: Any = None
    time_in_force: str = "day"
    holding: int | None = None
    protection: ProtectionIn | None = None
    client_id: str = ""


class LimitsIn(Asked):
    """Limits that change; a null takes one away, what is left out stays."""

    lots: Any = None
    notional: Any = None
    orders_a_minute: Any = None
    day_loss: Any = None
    collar: Any = None


class PriceIn(Asked):
    limit: Any


class CloseIn(Asked):
    lots: Any = None
    type: str = "market"
    limit: Any = None
    client_id: str = ""


class HaltIn(Asked):
    flatten: bool = False
    account: int | None = None
    because: str = "by hand"


class Halted(Schema):
    orders: int
    deployments: int
    closing: int


class PromoteIn(Asked):
    account: int
    beside: list[int] = Field([], max_length=LIMITS["underlyings"])
    """Accounts in which it trades its other underlyings, one each."""
    size: int = 1
    limits: dict[str, Any] = {}
    looked_at: bool = False


class ClockIn(Asked):
    rate: float | None = None


class JumpIn(Asked):
    to: dt.time


class QuietIn(Asked):
    quiet: bool


class ClockOut(Schema):
    symbol: str
    session: dt.date
    generation: int
    reached: int
    now: int
    local: str
    zone: str
    open: int
    close: int
    open_local: str
    close_local: str
    running: bool
    rate: float
    rates: list[int]
    quiet: bool
    sealed: bool
    jumping: bool
    is_open: bool
    age: float | None
    sequence: int
    may_operate: bool


class AccountRow(Schema):
    id: int
    name: str
    kind: str
    symbol: str
    currency: str
    limits: dict[str, Any]
    halted: bool
    halted_because: str
    quarantine: str


class MoneyGreeksOut(Schema):
    delta: float | None
    gamma: float | None
    theta: float | None
    vega: float | None
    rho: float | None


class DeskAccountOut(AccountRow):
    cash: float
    costs: float
    equity: float | None
    free: float | None
    reserved: float
    session_pnl: float | None
    open_mid: float | None
    open_closable: float | None
    greeks: MoneyGreeksOut


class PricesOut(Schema):
    own: float
    mid: float
    mid_limit: float
    other: float


class HoldingLegOut(Schema):
    contract: str
    label: str
    strike: float
    contracts: int
    opened: float
    bid: float | None
    ask: float | None
    mid: float | None


class LevelOut(Schema):
    value: str
    unit: str


class ProtectionOut(Schema):
    target: LevelOut | None = None
    stop: LevelOut | None = None


class FillOut(Schema):
    at: str
    lots: int
    kind: str
    price: float
    commission: float
    execution: str


class TicketLegOut(Schema):
    contract: str
    label: str
    ratio: int
    contracts: int
    bid: float
    ask: float
    bid_size: int
    ask_size: int
    delta: float | None


class HoldingOut(Schema):
    id: int
    name: str
    deployment: int | None
    strategy: int | None
    trade: int | None
    lots: int
    legs: list[HoldingLegOut]
    glyph: GlyphOut
    opened: str
    opened_price: float | None
    premium: float
    mid_price: float | None
    realised: float
    mid: float | None
    closable: float | None
    reserved: float
    greeks: MoneyGreeksOut
    protection: ProtectionOut
    protected_by: str
    next: str
    closing: bool


class OrderOut(Schema):
    id: int
    account: int
    holding: int | None
    deployment: int | None
    by: str
    because: str
    rule: str
    opens: bool
    changes: bool
    words: str
    legs: list[LegIn]
    lots: int
    filled: int
    type: str
    limit: float | None
    new_limit: float | None
    time_in_force: str
    state: str
    alive: bool
    can_change: bool
    cancel_wanted: bool
    reason: str
    placed: str
    placed_at: dt.datetime
    now: float | None
    fills: list[FillOut]
    protection: ProtectionOut


class CheckItem(Schema):
    id: str
    ok: bool
    required: bool
    text: str


class OutlookOut(Schema):
    at: str
    """The snapshot, exchange-local."""
    trades: list[TradeOutlook]


class OtherAccount(Schema):
    account: int
    name: str
    symbol: str
    stands: bool
    """Its market does not run in the session of the deployment's clock: nothing of it is entered."""


class DeploymentOut(Schema):
    late_exits: list[str]
    """Decisions to leave of an earlier session that are not carried out, and what stands in the way."""
    id: int
    strategy: int
    name: str
    revision: int
    latest: int
    account: int
    account_name: str
    account_kind: str
    beside: list[OtherAccount]
    """Where it trades other underlyings."""
    size: int
    armed: bool
    ended: bool
    says: str
    next: str | None
    open_trades: int
    checklist: list[CheckItem]
    sessions: list[dt.date]
    limits: dict[str, Any]


class DeskStatus(Schema):
    alive: bool
    says: str
    line_up: bool
    reconciled: bool
    line_since: dt.datetime | None


class DeskOut(Schema):
    account: DeskAccountOut
    holdings: list[HoldingOut]
    orders: list[OrderOut]
    deployments: list[DeploymentOut]
    clock: ClockOut
    desk: DeskStatus


class LivePathOut(Schema):
    at: list[int]
    spot: list[float]
    start: int
    end: int


class UnitOut(Schema):
    """The underlying itself: one contract of it is as many ``units`` as an option delivers."""

    contract: str
    label: str
    held: int
    units: int
    bid: float
    ask: float


class LiveChainOut(ChainOut):
    unit: UnitOut | None
    at: int
    session: dt.date
    spot: float
    sequence: int
    symbol: str


class TicketOut(Schema):
    sides: PricesOut | None
    capital: float | None
    problems: list[ProblemOut]
    sentences: list[str]
    payoff: PayoffOut | None
    glyph: GlyphOut | None
    premium: float | None
    legs: list[TicketLegOut]
    free_after: float | None
    last: float | None
    tick: float


class HoldingDetail(Schema):
    holding: HoldingOut
    payoff: PayoffOut | None
    fills: list[FillOut]


class ComparedRow(Schema):
    at: int
    time: str
    kind: str
    rule: str
    lived: str | None
    tested: str | None
    same: bool


class ComparedFill(Schema):
    order: str
    at: int
    lived_at: int | None
    tested_at: int | None
    lived: float | None
    tested: float | None
    same: bool


class ComparedOut(Schema):
    session: dt.date
    rows: list[ComparedRow]
    fills: list[ComparedFill]
    decisions: int
    same: int
    first: str | None
    until: str
