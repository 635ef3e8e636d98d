"""Backtest runs."""

import datetime as dt
from decimal import Decimal
from typing import Any

from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema

from runs import queries, services
from runs.models import Run
from strategies import services as strategies

router = Router(tags=["runs"])


class RunRequest(Schema):
    start: dt.date
    end: dt.date
    cash: Decimal = Decimal(50_000)
    method: str = "blocks"


class RunRow(Schema):
    id: int
    number: int
    strategy: int
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
    figures: dict[str, Any]
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
    kind: str
    rule: str
    truth: int | None
    values: dict[str, Any]
    trade: int | None


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


@router.get("/strategies/{strategy_id}/runs", response=list[RunRow], operation_id="runs")
def runs(request: HttpRequest, strategy_id: int):
    strategy = strategies.find(request.user, strategy_id)
    found = strategy.runs.select_related("strategy", "revision").defer("decisions", "curve", "evidence")
    return [queries.run_facts(run) for run in found]


@router.post("/strategies/{strategy_id}/runs", response=RunRow, operation_id="ask_run")
def ask(request: HttpRequest, strategy_id: int, body: RunRequest):
    run = services.ask(request.user, strategy_id, body.start, body.end, body.cash, body.method)
    return queries.run_facts(run)


@router.get("/runs", response=list[RunRow], operation_id="active_runs")
def active(request: HttpRequest):
    found = Run.objects.of(request.user).filter(status__in=Run.ACTIVE).select_related("strategy", "revision")
    return [queries.run_facts(run) for run in found]


@router.get("/runs/{run_id}", response=RunOut, operation_id="run")
def run(request: HttpRequest, run_id: int):
    return queries.run_facts(services.find(request.user, run_id), whole=True)


@router.delete("/runs/{run_id}", response={204: None}, operation_id="delete_run")
def delete(request: HttpRequest, run_id: int):
    services.delete(request.user, run_id)
    return 204, None


@router.post("/runs/{run_id}/cancel", response=RunRow, operation_id="cancel_run")
def cancel(request: HttpRequest, run_id: int):
    return queries.run_facts(services.cancel(request.user, run_id))


@router.post("/runs/{run_id}/go-on", response=RunRow, operation_id="go_on_run")
def go_on(request: HttpRequest, run_id: int):
    return queries.run_facts(services.go_on(request.user, run_id))


@router.get("/runs/{run_id}/trades/{number}", response=dict[str, Any], operation_id="run_trade")
def trade(request: HttpRequest, run_id: int, number: int, at: int | None = None):
    return queries.trade_detail(services.find(request.user, run_id), number, at)


@router.get("/runs/{run_id}/trades.csv", operation_id="run_trades_csv")
def trades_csv(request: HttpRequest, run_id: int):
    found = services.find(request.user, run_id)
    response = HttpResponse(queries.trades_csv(found), content_type="text/csv; charset=utf-8")
    response["Content-Disposition"] = f'attachment; filename="run-{found.number}-trades.csv"'
    return response
