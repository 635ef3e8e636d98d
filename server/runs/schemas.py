"""Shapes of the runs API."""

import datetime as dt
from decimal import Decimal
from typing import Any

from ninja import Schema

from observe.schemas import GlyphOut, GreeksOut, PayoffOut


class RunRequest(Schema):
    start: dt.date
    end: dt.date
    cash: Decimal = Decimal(50_000)
    method: str = "blocks"


class FiguresOut(Schema):
    """What a finished run amounts to; ``None`` where a figure has no value. See ``core/strell_core/results``."""

    trades_count: int
    trades_win_rate: float | None
    trades_average_win: float | None
    trades_average_loss: float | None
    trades_expectancy: float | None
    trades_profit_factor: float | None
    trades_credit_kept: float | None
    trades_worst: float | None
    start_equity: float
    final_equity: float
    cagr: float | None
    cagr_interval: list[float] | None
    max_drawdown: float
    drawdown_from: str | None
    drawdown_to: str | None
    drawdown_sessions: int
    drawdown_recovered: bool
    mar: float | None
    sharpe: float | None
    sortino: float | None
    time_in_market: float
    longest_flat: int
    worst_day: float
    worst_day_date: str | None
    costs: float
    credit_taken: float
    sessions: int
    single_sessions: int
    stale_sessions: int
    open_trades: int


class RunRow(Schema):
    id: int
    number: int
    strategy: int
    strategy_name: str
    revision: int
    outdated: bool
    start: dt.date
    end: dt.date
    cash: float
    method: str
    status: str
    progress: float
    queued_at: dt.datetime
    started_at: dt.datetime | None
    finished_at: dt.datetime | None
    message: str
    figures: FiguresOut | None
    cancel_requested: bool


class CurveOut(Schema):
    dates: list[str] = []
    equity: list[float] = []
    drawdown: list[float] = []
    spot: list[float] = []


class TradeLeg(Schema):
    expiration: str
    strike: float
    right: str
    contracts: int
    opened: float
    closed: float
    how: str


class TradeRow(Schema):
    number: int
    opened: str
    closed: str
    opened_shown: str
    closed_shown: str
    decided: str
    opened_at: int
    weekday: str
    expires: str
    dte: int
    held: int
    lots: int
    spot: float
    legs: list[TradeLeg]
    credit: float
    cost_to_close: float
    pnl: float
    costs: float
    of_premium: float | None
    rule: str
    sentence: int | None
    reason: str
    also: list[str]


class DecisionOut(Schema):
    at: int
    local: str
    kind: str
    rule: str
    trade: int | None
    text: str


class EvidenceOut(Schema):
    true: int
    no: int
    unvalued: int


class RunOut(RunRow):
    curve: CurveOut
    decisions: list[DecisionOut]
    evidence: dict[str, EvidenceOut]
    manifest: dict[str, Any]
    trades: list[TradeRow]
    document: dict[str, Any]


class LegSide(GreeksOut):
    bid: float | None
    ask: float | None
    iv: float | None


class LegDetail(Schema):
    label: str
    contract: str
    contracts: int
    opened: float
    closed: float
    how: str
    pnl: float
    entry: LegSide
    exit: LegSide


class PathOut(Schema):
    """A trade through time: P/L at mid in money, each leg's mid in points ``(legs, n)``."""

    at: list[int]
    local: list[str]
    spot: list[float]
    pnl: list[float]
    legs: list[list[float]]


class TradeDetail(Schema):
    row: TradeRow
    legs: list[LegDetail]
    path: PathOut
    payoff: PayoffOut
    glyph: GlyphOut
    decided_rule: str
    currency: str
    nearest: int
