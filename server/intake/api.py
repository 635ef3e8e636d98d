"""Routes of the data page: what is there, files on their way in, ranges out."""

import datetime as dt
from pathlib import Path
from typing import Any, BinaryIO, cast

from django.http import FileResponse, StreamingHttpResponse
from ninja import File, Router
from ninja.files import UploadedFile

from config.errors import NotThere
from intake import coverage
from intake import services as intake
from intake.files import find, reasons_of, receive
from intake.preview import preview as look
from intake.queries import facts
from intake.schemas import (
    CoverageOut,
    HoldingsOut,
    IntakeOut,
    IntakePreview,
    NamedMapping,
    PreviewIn,
    RangeIn,
    RemovalOut,
    StartIn,
    WordsOut,
)
from market.calendars import names
from market.models import ColumnMapping, Intake
from people.access import SignedRequest
from strell_core.formats.intake.mapping import DATE_FORMATS, KINDS
from strell_core.formats.intake.sessions import FINDINGS

router = Router(tags=["data"])


# -- what is there
@router.get("/data", response=list[HoldingsOut], operation_id="holdings")
def holdings(request: SignedRequest) -> list[dict[str, Any]]:
    return coverage.summaries(request.user)


@router.get("/data/words", response=WordsOut, operation_id="data_words")
def words(request: SignedRequest) -> dict[str, Any]:
    return {
        "files": [
            {"kind": name, "title": kind.title, "subject": kind.subject, "roles": kind.roles, "needed": kind.needed}
            for name, kind in KINDS.items()
        ],
        "date_formats": DATE_FORMATS, "calendars": names(), "kinds": ["index", "stock", "fund", "future"],
        "reasons": list(reasons_of("chains").values()), "findings": list(FINDINGS.values()),
    }  # fmt: skip


@router.get("/data/{symbol}/coverage", response=CoverageOut, operation_id="coverage")
def coverage_of(request: SignedRequest, symbol: str) -> dict[str, Any]:
    return coverage.coverage(request.user, symbol)


@router.get("/data/{symbol}/quotes.{kind}", operation_id="export_quotes")
def quotes(request: SignedRequest, symbol: str, kind: str, start: dt.date, end: dt.date) -> FileResponse:
    path, name = coverage.written(symbol, start, end, kind)
    file = open(path, "rb")  # noqa: SIM115  (the answer closes it)
    path.unlink()
    return FileResponse(file, as_attachment=True, filename=name, content_type=coverage.KINDS[kind])


@router.post("/data/{symbol}/remove", response=RemovalOut, operation_id="remove_sessions")
def remove(request: SignedRequest, symbol: str, body: RangeIn) -> dict[str, Any]:
    return coverage.removal_facts(coverage.remove(request.user, symbol, body.start, body.end))


@router.post("/removals/{removal_id}/undo", response=RemovalOut, operation_id="undo_removal")
def undo(request: SignedRequest, removal_id: int) -> dict[str, Any]:
    return coverage.removal_facts(coverage.restore(request.user, removal_id))


# -- files on their way in
@router.get("/intakes", response=list[IntakeOut], operation_id="intakes")
def intakes(request: SignedRequest) -> list[dict[str, Any]]:
    return [facts(row) for row in Intake.objects.of(request.user)[:50]]


@router.post("/intakes", response=IntakeOut, operation_id="upload")
def upload(request: SignedRequest, file: UploadedFile = File(...)) -> dict[str, Any]:  # type: ignore[type-arg]  # noqa: B008
    return facts(receive(request.user, file.name or "file", cast(BinaryIO, file.file)))


@router.get("/intakes/{intake_id}", response=IntakeOut, operation_id="intake")
def one(request: SignedRequest, intake_id: int) -> dict[str, Any]:
    return facts(find(request.user, intake_id))


@router.post("/intakes/{intake_id}/preview", response=IntakePreview, operation_id="preview_intake")
def preview(request: SignedRequest, intake_id: int, body: PreviewIn) -> dict[str, Any]:
    found = look(request.user, intake_id, body.mapping, body.terms)
    return {**found, "rejected": [{"what": what, "count": count} for what, count in found["rejected"].items()]}


@router.post("/intakes/{intake_id}/start", response=IntakeOut, operation_id="start_intake")
def start(request: SignedRequest, intake_id: int, body: StartIn) -> dict[str, Any]:
    return facts(intake.start(request.user, intake_id, body.mapping, body.terms, body.adds))


@router.post("/intakes/{intake_id}/cancel", response=IntakeOut, operation_id="cancel_intake")
def cancel(request: SignedRequest, intake_id: int) -> dict[str, Any]:
    return facts(intake.cancel(request.user, intake_id))


@router.post("/intakes/{intake_id}/take-back", response=IntakeOut, operation_id="take_back_intake")
def take_back(request: SignedRequest, intake_id: int) -> dict[str, Any]:
    return facts(intake.take_back(request.user, intake_id))


@router.delete("/intakes/{intake_id}", response={204: None}, operation_id="forget_intake")
def forget(request: SignedRequest, intake_id: int) -> tuple[int, None]:
    intake.forget(request.user, intake_id)
    return 204, None


@router.get("/intakes/{intake_id}/rejects.csv", operation_id="rejects")
def rejects(request: SignedRequest, intake_id: int) -> StreamingHttpResponse:
    found = find(request.user, intake_id)
    answer = StreamingHttpResponse(intake.rejects(found), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="rejects-{Path(found.name).stem[:60]}.csv"'
    return answer


@router.get("/mappings", response=list[NamedMapping], operation_id="mappings")
def mappings(request: SignedRequest) -> list[dict[str, Any]]:
    return [dict(row) for row in ColumnMapping.objects.of(request.user).values("name", "mapping")]


@router.put("/mappings", response=NamedMapping, operation_id="save_mapping")
def save_mapping(request: SignedRequest, body: NamedMapping) -> dict[str, Any]:
    made = intake.save_mapping(request.user, body.name, body.mapping)
    return {"name": made.name, "mapping": made.mapping}


@router.delete("/mappings/{name}", response={204: None}, operation_id="forget_mapping")
def forget_mapping(request: SignedRequest, name: str) -> tuple[int, None]:
    if not ColumnMapping.objects.of(request.user).filter(name=name).delete()[0]:
        raise NotThere("There is no such mapping.")
    return 204, None
