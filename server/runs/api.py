"""Backtest runs."""

import datetime as dt
from typing import Annotated, Any, Literal

from django.http import HttpResponse
from ninja import Query, Router

from people.access import SignedRequest
from runs import queries, reporting, services, strip
from runs.compare import compared
from runs.luck import luck_of
from runs.models import Run
from runs.others import others
from runs.research_schemas import CompareOut, LuckOut, MeasureName, SlicesOut
from runs.schemas import (
    CourseOut,
    FigureOut,
    FoundTrade,
    LatestRun,
    OtherExitsOut,
    RunOut,
    RunRequest,
    RunRow,
    RunWords,
    StripOut,
    TradeDetail,
)
from runs.slices import market_measures, slices
from strategies import services as strategies
from strell_core.results.figures import FIGURES, Figure

router = Router(tags=["runs"])


@router.get("/figures", response=list[FigureOut], operation_id="figures")
def figures(request: SignedRequest) -> list[Figure]:
    """What the figures of a run are called and how each is made."""
    return list(FIGURES.values())


@router.get("/strategies/{strategy_id}/runs", response=list[RunRow], operation_id="runs")
def runs(request: SignedRequest, strategy_id: int) -> list[dict[str, Any]]:
    strategy = strategies.find(request.user, strategy_id)
    found = strategy.runs.there().select_related("strategy", "revision").defer("decisions", "curve", "evidence")
    return [queries.run_facts(run) for run in found]


@router.post("/strategies/{strategy_id}/runs", response=RunRow, operation_id="ask_run")
def ask(request: SignedRequest, strategy_id: int, body: RunRequest) -> dict[str, Any]:
    run = services.ask(request.user, strategy_id, body.start, body.end, body.cash, body.method, look=body.look)
    return queries.run_facts(run)


@router.get("/strategies/{strategy_id}/strip", response=StripOut, operation_id="strip")
def strip_of(request: SignedRequest, strategy_id: int) -> dict[str, Any]:
    """What the latest revision decides at every look of all sessions that are not held back."""
    return strip.told(request.user, strategy_id)


@router.get("/runs", response=list[RunRow], operation_id="active_runs")
def active(request: SignedRequest) -> list[dict[str, Any]]:
    found = Run.objects.of(request.user).filter(status__in=Run.ACTIVE).select_related("strategy", "revision")
    return [queries.run_facts(run) for run in found]


@router.get("/runs/latest", response=list[LatestRun], operation_id="latest_runs")
def latest(request: SignedRequest) -> list[dict[str, Any]]:
    """The last finished runs of all strategies."""
    return queries.latest(request.user)


@router.get("/runs/trades", response=list[FoundTrade], operation_id="find_trades")
def find_trades(
    request: SignedRequest, number: Annotated[int | None, Query(ge=0, le=10**6)] = None, on: dt.date | None = None
) -> list[dict[str, Any]]:
    """Trades of the last finished runs, by their number or the day they were entered on."""
    return queries.trades_found(request.user, number, on)


@router.get("/runs/{run_id}", response=RunOut, operation_id="run")
def run(request: SignedRequest, run_id: int, without: Literal["decisions", "trades"] | None = None) -> HttpResponse:
    """A run; ``without`` its decisions or its trades, for there may be thousands of either."""
    text = queries.run_text(services.find(request.user, run_id), without)
    return HttpResponse(text, content_type="application/json")


@router.patch("/runs/{run_id}", response=RunRow, operation_id="describe_run")
def describe(request: SignedRequest, run_id: int, body: RunWords) -> dict[str, Any]:
    """Name, note, tags; archived or not; the baseline of its strategy or not."""
    return queries.run_facts(services.describe(request.user, run_id, body.given()))


@router.delete("/runs/{run_id}", response={204: None}, operation_id="delete_run")
def delete(request: SignedRequest, run_id: int) -> tuple[int, None]:
    services.delete(request.user, run_id)
    return 204, None


@router.post("/runs/{run_id}/restore", response=RunRow, operation_id="restore_run")
def restore(request: SignedRequest, run_id: int) -> dict[str, Any]:
    return queries.run_facts(services.restore(request.user, run_id))


@router.post("/runs/{run_id}/cancel", response=RunRow, operation_id="cancel_run")
def cancel(request: SignedRequest, run_id: int) -> dict[str, Any]:
    return queries.run_facts(services.cancel(request.user, run_id))


@router.post("/runs/{run_id}/go-on", response=RunRow, operation_id="go_on_run")
def go_on(request: SignedRequest, run_id: int) -> dict[str, Any]:
    return queries.run_facts(services.go_on(request.user, run_id))


@router.post("/runs/{run_id}/extend", response=RunRow, operation_id="extend_run")
def extend(request: SignedRequest, run_id: int) -> dict[str, Any]:
    """A run of the same over the sessions recorded since as well, which computes only those."""
    return queries.run_facts(services.extend(request.user, run_id))


@router.get("/runs/{run_id}/trades/{number}", response=TradeDetail, operation_id="run_trade")
def trade(request: SignedRequest, run_id: int, number: int, at: int | None = None) -> dict[str, Any]:
    return queries.trade_detail(services.find(request.user, run_id), number, at)


@router.get("/runs/{run_id}/trades/{number}/other-exits", response=OtherExitsOut, operation_id="other_exits")
def other_exits(request: SignedRequest, run_id: int, number: int) -> dict[str, Any]:
    """What every exit sentence alone, none, or the same a session earlier or later would have brought."""
    return others(services.find(request.user, run_id), number)


@router.get("/slices/measures", response=list[MeasureName], operation_id="slice_measures")
def slice_measures(request: SignedRequest) -> list[dict[str, str]]:
    """Measures of the market by which trades can be told apart."""
    return [
        {"id": item.id, "title": item.title, "explains": item.explains}
        for item in (measure.declaration for measure in market_measures())
    ]


@router.get("/runs/{run_id}/slices", response=SlicesOut, operation_id="run_slices")
def run_slices(
    request: SignedRequest, run_id: int, choose: Annotated[list[str] | None, Query()] = None, measure: Annotated[list[str] | None, Query()] = None
) -> dict[str, Any]:  # fmt: skip
    """Trades told apart; ``choose`` (``column:key``) leaves only those with one of a column's chosen values."""
    if measure is None:
        measure = []
    if choose is None:
        choose = []
    return slices(request.user, services.find(request.user, run_id), choose, measure)


@router.get("/runs/{run_id}/course", response=CourseOut, operation_id="run_course")
def run_course(request: SignedRequest, run_id: int) -> dict[str, Any]:
    """Months and rolling figures."""
    return queries.course(services.find(request.user, run_id))


@router.get("/runs/{run_id}/luck", response=LuckOut, operation_id="run_luck")
def run_luck(request: SignedRequest, run_id: int) -> dict[str, Any]:
    """What chance alone would give."""
    return luck_of(services.find(request.user, run_id))


@router.get("/compare", response=CompareOut, operation_id="compare_runs")
def compare(request: SignedRequest, run: Annotated[list[int], Query()]) -> dict[str, Any]:
    """Finished runs beside the first of them."""
    return compared(request.user, run)


@router.get("/runs/{run_id}/report.html", operation_id="run_report")
def run_report(request: SignedRequest, run_id: int) -> HttpResponse:
    """A run on paper: one HTML file that needs nothing else."""
    found = services.find(request.user, run_id)
    return _download(reporting.of_run(found).encode(), "text/html; charset=utf-8", f"run-{found.number}.html")


@router.get("/compare/report.html", operation_id="compare_report")
def compare_report(request: SignedRequest, run: Annotated[list[int], Query()]) -> HttpResponse:
    """Runs beside the first of them on paper."""
    return _download(
        reporting.of_comparison(request.user, run).encode(), "text/html; charset=utf-8", "runs-compared.html"
    )


@router.get("/runs/{run_id}/{what}.{kind}", operation_id="run_file")
def run_file(request: SignedRequest, run_id: int, what: str, kind: str) -> HttpResponse:
    """A run's trades, equity or decisions as csv, json or parquet."""
    found = services.find(request.user, run_id)
    media, content = queries.file(found, what, kind)
    return _download(content, media, f"run-{found.number}-{what}.{kind}")


def _download(content: bytes, media: str, name: str) -> HttpResponse:
    response = HttpResponse(content, content_type=media)
    response["Content-Disposition"] = f'attachment; filename="{name}"'
    return response
