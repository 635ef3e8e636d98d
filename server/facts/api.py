"""Routes of dated facts, contract terms and calendars of one's own."""

import datetime as dt
from typing import Any

from django.http import HttpResponse
from ninja import Router

from config.errors import Refused
from facts import calendars, copies, dated, terms
from facts.schemas import (
    CalendarChange,
    CalendarOut,
    CopiedOut,
    CopyIn,
    DividendRow,
    FactIn,
    OthersOut,
    PeriodOut,
    TermsIn,
)
from market.terms import row_of
from people.access import SignedRequest

router = Router(tags=["data"])


@router.put("/data/{symbol}/dividends", response=list[DividendRow], operation_id="set_dividends")
def set_dividends(request: SignedRequest, symbol: str, body: list[DividendRow]) -> list[Any]:
    paid = {row.date: row.amount for row in body}
    if len(paid) < len(body):
        raise Refused("A day has one dividend at most.")
    return dated.set_dividends(request.user, symbol, paid)


@router.post("/data/{symbol}/copy", response=CopiedOut, operation_id="copy_data")
def copy_data(request: SignedRequest, symbol: str, body: CopyIn) -> dict[str, str]:
    """A copy under a symbol of one's own, which may be changed."""
    return {"symbol": copies.copy(request.user, symbol, body.symbol).symbol}


@router.post("/data/{symbol}/terms", response=list[PeriodOut], operation_id="change_terms")
def change_terms(request: SignedRequest, symbol: str, body: TermsIn) -> list[dict[str, Any]]:
    """New terms from a day on."""
    values = body.model_dump(exclude={"start"}, exclude_none=True)
    if body.ticks is not None:
        values["ticks"] = [(step.start, step.step) for step in body.ticks]
    return terms.periods(terms.change(request.user, symbol, body.start, values))


@router.delete("/data/{symbol}/terms/{start}", response=list[PeriodOut], operation_id="change_terms_back")
def change_terms_back(request: SignedRequest, symbol: str, start: dt.date) -> list[dict[str, Any]]:
    return terms.periods(terms.change_back(request.user, symbol, start))


@router.get("/calendars", response=list[CalendarOut], operation_id="calendars")
def own_calendars(request: SignedRequest) -> list[dict[str, Any]]:
    """Trading calendars that people wrote down."""
    return calendars.told(request.user)


@router.put("/calendars/{name}", response=list[CalendarOut], operation_id="keep_calendar")
def keep_calendar(request: SignedRequest, name: str, body: CalendarChange) -> list[dict[str, Any]]:
    calendars.keep(request.user, name, body.model_dump(exclude={"based_on"}), body.based_on)
    return calendars.told(request.user)


@router.delete("/calendars/{name}", response=list[CalendarOut], operation_id="forget_calendar")
def forget_calendar(request: SignedRequest, name: str) -> list[dict[str, Any]]:
    calendars.forget(request.user, name)
    return calendars.told(request.user)


@router.get("/data-others", response=OthersOut, operation_id="others")
def others(request: SignedRequest) -> dict[str, list[dict[str, Any]]]:
    """Interest rates and one's own series."""
    return dated.others(request.user)


def _as_file(rows: list[dict[str, Any]], name: str) -> HttpResponse:
    answer = HttpResponse(dated.as_csv(rows), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="{name}.csv"'
    return answer


@router.get("/data-others/rates/{currency}.csv", operation_id="export_rates")
def export_rates(request: SignedRequest, currency: str) -> HttpResponse:
    return _as_file(dated.rates_of(currency), f"rates-{currency.upper()}")


@router.get("/data-others/series/{name}.csv", operation_id="export_series")
def export_series(request: SignedRequest, name: str) -> HttpResponse:
    return _as_file(dated.series_of(request.user, name), name.lower())


@router.get("/data/{symbol}/facts/{kind}", response=list[dict[str, Any]], operation_id="facts")
def dated_facts(request: SignedRequest, symbol: str, kind: str) -> list[dict[str, Any]]:
    """Bars, dividends, splits or events of an underlying, oldest first."""
    return dated.facts_of(row_of(symbol), kind)


@router.get("/data/{symbol}/facts/{kind}/export.csv", operation_id="export_facts")
def export_facts(request: SignedRequest, symbol: str, kind: str) -> HttpResponse:
    return _as_file(dated.facts_of(row_of(symbol), kind), f"{symbol}-{kind}")


@router.post("/data/{symbol}/facts/{kind}/remove", response={204: None}, operation_id="remove_fact")
def remove_fact(request: SignedRequest, symbol: str, kind: str, body: FactIn) -> tuple[int, None]:
    dated.drop(request.user, symbol, kind, body.date, body.what)
    return 204, None
