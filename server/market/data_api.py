"""Routes of the data page: what is there, files on their way in, ranges out."""

import datetime as dt
from pathlib import Path
from typing import Any

from django.http import FileResponse, HttpRequest, HttpResponse, StreamingHttpResponse
from ninja import File, Router
from ninja.files import UploadedFile

from config.errors import NotThere, Refused
from market import calendars, contract_terms, coverage, dated, intake
from market.data_schemas import (
    CalendarIn,
    CalendarOut,
    CoverageOut,
    DividendRow,
    FactIn,
    HoldingsOut,
    IntakeOut,
    IntakePreview,
    NamedMapping,
    OthersOut,
    PeriodOut,
    PreviewIn,
    RangeIn,
    RemovalOut,
    StartIn,
    TermsIn,
    WordsOut,
)
from market.models import ColumnMapping, Dividend, Intake
from market.refresh import later
from runs.queries import touched
from strell_core.formats.intake.mapping import DATE_FORMATS, KINDS
from strell_core.formats.intake.sessions import FINDINGS

router = Router(tags=["data"])


def facts(row: Intake) -> dict[str, Any]:
    now = row.finished_at or dt.datetime.now(dt.UTC)
    elapsed = None if row.started_at is None else (now - row.started_at).total_seconds()
    running = row.status == Intake.Status.RUNNING and elapsed is not None and row.share > 0.02
    rejected = row.report.get("rejected", {})
    symbols = []
    for symbol, mine in sorted(row.report.get("sessions", {}).items()):
        found = [
            {"what": FINDINGS[name], "count": mine["findings"][name]} for name in FINDINGS if mine["findings"].get(name)
        ]
        anew = mine.get("anew", {})
        spans = {name: (span["first"], span["last"]) for name, span in anew.items()}
        if row.mapping.get("kind", "chains") == "chains" and mine["changed"] and mine.get("first"):
            spans[symbol] = (mine["first"], mine["last"])
        runs = [run for name, span in sorted(spans.items()) for run in touched(row.owner, name, *span)]
        anew = [{"symbol": name, "sessions": span["count"]} for name, span in sorted(anew.items())]
        symbols.append({**mine, "symbol": symbol, "findings": found, "runs": runs, "anew": anew})
    return {
        "id": row.pk, "name": row.name, "size": row.size, "made_at": row.made_at, "status": row.status, "doing": row.doing,
        "share": row.share, "message": row.message, "elapsed": elapsed,
        "expected": elapsed / row.share if running and elapsed is not None else None, "rows": row.rows, "adds": row.adds, "kind": row.mapping.get("kind", "chains"),
        "mapping": row.mapping, "terms": row.terms, "rejects": sum(rejected.values()),
        "rejected": [
            {"what": words, "count": rejected[name]} for name, words in intake.reasons_of(row.mapping.get("kind", "chains")).items() if rejected.get(name)
        ],
        "symbols": symbols, "brought": row.chains.count() + row.changes.count(),
    }  # fmt: skip


# -- what is there
@router.get("/data", response=list[HoldingsOut], operation_id="holdings")
def holdings(request: HttpRequest):
    return coverage.summaries()


@router.get("/data/words", response=WordsOut, operation_id="data_words")
def words(request: HttpRequest):
    return {
        "files": [
            {"kind": name, "title": kind.title, "subject": kind.subject, "roles": kind.roles, "needed": kind.needed}
            for name, kind in KINDS.items()
        ],
        "date_formats": DATE_FORMATS, "calendars": calendars.names(), "kinds": ["index", "stock", "fund", "future"],
        "reasons": list(intake.reasons_of("chains").values()), "findings": list(FINDINGS.values()),
    }  # fmt: skip


@router.get("/data/{symbol}/coverage", response=CoverageOut, operation_id="coverage")
def coverage_of(request: HttpRequest, symbol: str):
    return coverage.coverage(symbol)


@router.get("/data/{symbol}/quotes.{kind}", operation_id="export_quotes")
def quotes(request: HttpRequest, symbol: str, kind: str, start: dt.date, end: dt.date):
    path, name = coverage.written(symbol, start, end, kind)
    file = open(path, "rb")  # noqa: SIM115  (the answer closes it)
    path.unlink()
    return FileResponse(file, as_attachment=True, filename=name, content_type=coverage.KINDS[kind])


@router.post("/data/{symbol}/remove", response=RemovalOut, operation_id="remove_sessions")
def remove(request: HttpRequest, symbol: str, body: RangeIn):
    return coverage.removal_facts(coverage.remove(request.user, symbol, body.start, body.end))


@router.post("/removals/{removal_id}/undo", response=RemovalOut, operation_id="undo_removal")
def undo(request: HttpRequest, removal_id: int):
    return coverage.removal_facts(coverage.restore(request.user, removal_id))


@router.put("/data/{symbol}/dividends", response=list[DividendRow], operation_id="set_dividends")
def set_dividends(request: HttpRequest, symbol: str, body: list[DividendRow]):
    row = coverage.row_of(symbol)
    if len({d.date for d in body}) < len(body) or any(d.amount <= 0 for d in body):
        raise Refused("Dividends are positive, one a day at most.")
    dated.may_change(request.user, row)
    row.dividends.all().delete()
    Dividend.objects.bulk_create(Dividend(underlying=row, date=d.date, amount=round(d.amount, 4)) for d in body)
    later(row)
    return list(row.dividends.values("date", "amount"))


@router.post("/data/{symbol}/terms", response=list[PeriodOut], operation_id="change_terms")
def change_terms(request: HttpRequest, symbol: str, body: TermsIn):
    """New terms from a day on."""
    values = body.dict(exclude={"start"}, exclude_none=True)
    if body.ticks is not None:
        values["ticks"] = [(step.start, step.step) for step in body.ticks]
    return contract_terms.periods(contract_terms.change(request.user, symbol, body.start, values))


@router.delete("/data/{symbol}/terms/{start}", response=list[PeriodOut], operation_id="change_terms_back")
def change_terms_back(request: HttpRequest, symbol: str, start: dt.date):
    return contract_terms.periods(contract_terms.change_back(request.user, symbol, start))


@router.get("/calendars", response=list[CalendarOut], operation_id="calendars")
def own_calendars(request: HttpRequest):
    """Trading calendars that people wrote down."""
    return calendars.told(request.user)


@router.put("/calendars/{name}", response=list[CalendarOut], operation_id="keep_calendar")
def keep_calendar(request: HttpRequest, name: str, body: CalendarIn):
    calendars.keep(request.user, name, body.dict())
    return calendars.told(request.user)


@router.delete("/calendars/{name}", response=list[CalendarOut], operation_id="forget_calendar")
def forget_calendar(request: HttpRequest, name: str):
    calendars.forget(request.user, name)
    return calendars.told(request.user)


@router.get("/data-others", response=OthersOut, operation_id="others")
def others(request: HttpRequest):
    """Interest rates and one's own series."""
    return dated.others(request.user)


def _as_file(rows: list[dict[str, Any]], name: str) -> HttpResponse:
    answer = HttpResponse(dated.as_csv(rows), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="{name}.csv"'
    return answer


@router.get("/data-others/rates/{currency}.csv", operation_id="export_rates")
def export_rates(request: HttpRequest, currency: str):
    return _as_file(dated.rates_of(currency), f"rates-{currency.upper()}")


@router.get("/data-others/series/{name}.csv", operation_id="export_series")
def export_series(request: HttpRequest, name: str):
    return _as_file(dated.series_of(request.user, name), name.lower())


@router.get("/data/{symbol}/facts/{kind}", response=list[dict[str, Any]], operation_id="facts")
def dated_facts(request: HttpRequest, symbol: str, kind: str):
    """Bars, dividends, splits or events of an underlying, oldest first."""
    return dated.facts_of(coverage.row_of(symbol), kind)


@router.get("/data/{symbol}/facts/{kind}/export.csv", operation_id="export_facts")
def export_facts(request: HttpRequest, symbol: str, kind: str):
    return _as_file(dated.facts_of(coverage.row_of(symbol), kind), f"{symbol}-{kind}")


@router.post("/data/{symbol}/facts/{kind}/remove", response={204: None}, operation_id="remove_fact")
def remove_fact(request: HttpRequest, symbol: str, kind: str, body: FactIn):
    dated.drop(request.user, symbol, kind, body.date, body.what)
    return 204, None


# -- files on their way in
@router.get("/intakes", response=list[IntakeOut], operation_id="intakes")
def intakes(request: HttpRequest):
    return [facts(row) for row in Intake.objects.of(request.user)[:50]]


@router.post("/intakes", response=IntakeOut, operation_id="upload")
def upload(request: HttpRequest, file: UploadedFile = File(...)):  # noqa: B008
    return facts(intake.receive(request.user, file.name or "file", file.file))


@router.get("/intakes/{intake_id}", response=IntakeOut, operation_id="intake")
def one(request: HttpRequest, intake_id: int):
    return facts(intake.find(request.user, intake_id))


@router.post("/intakes/{intake_id}/preview", response=IntakePreview, operation_id="preview_intake")
def preview(request: HttpRequest, intake_id: int, body: PreviewIn):
    found = intake.preview(request.user, intake_id, body.mapping, body.terms)
    return {**found, "rejected": [{"what": what, "count": count} for what, count in found["rejected"].items()]}


@router.post("/intakes/{intake_id}/start", response=IntakeOut, operation_id="start_intake")
def start(request: HttpRequest, intake_id: int, body: StartIn):
    return facts(intake.start(request.user, intake_id, body.mapping, body.terms, body.adds))


@router.post("/intakes/{intake_id}/cancel", response=IntakeOut, operation_id="cancel_intake")
def cancel(request: HttpRequest, intake_id: int):
    return facts(intake.cancel(request.user, intake_id))


@router.post("/intakes/{intake_id}/take-back", response=IntakeOut, operation_id="take_back_intake")
def take_back(request: HttpRequest, intake_id: int):
    return facts(intake.take_back(request.user, intake_id))


@router.delete("/intakes/{intake_id}", response={204: None}, operation_id="forget_intake")
def forget(request: HttpRequest, intake_id: int):
    intake.forget(request.user, intake_id)
    return 204, None


@router.get("/intakes/{intake_id}/rejects.csv", operation_id="rejects")
def rejects(request: HttpRequest, intake_id: int):
    found = intake.find(request.user, intake_id)
    answer = StreamingHttpResponse(intake.rejects(found), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="rejects-{Path(found.name).stem[:60]}.csv"'
    return answer


@router.get("/mappings", response=list[NamedMapping], operation_id="mappings")
def mappings(request: HttpRequest):
    return list(ColumnMapping.objects.of(request.user).values("name", "mapping"))


@router.put("/mappings", response=NamedMapping, operation_id="save_mapping")
def save_mapping(request: HttpRequest, body: NamedMapping):
    made = intake.save_mapping(request.user, body.name, body.mapping)
    return {"name": made.name, "mapping": made.mapping}


@router.delete("/mappings/{name}", response={204: None}, operation_id="forget_mapping")
def forget_mapping(request: HttpRequest, name: str):
    if not ColumnMapping.objects.of(request.user).filter(name=name).delete()[0]:
        raise NotThere("There is no such mapping.")
    return 204, None
