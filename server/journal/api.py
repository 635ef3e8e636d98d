"""The journal."""

import datetime as dt
from typing import Any

from django.http import StreamingHttpResponse
from ninja import Query, Router, Schema

from journal import queries
from people.access import SignedRequest

router = Router(tags=["journal"])


class Filter(Schema):
    who: str = ""
    kind: str = ""
    account: int | None = None
    deployment: int | None = None
    order: int | None = None
    strategy: int | None = None
    words: str = ""


class EntryOut(Schema):
    id: int
    at: dt.datetime
    market_at: int | None
    who: str
    kind: str
    text: str
    rule: str
    values: dict[str, Any]
    account: int | None
    strategy: int | None
    deployment: int | None
    order: int | None
    symbol: str


class JournalPage(Schema):
    rows: list[EntryOut]
    more: bool


@router.get("/journal", response=JournalPage, operation_id="journal")
def journal(request: SignedRequest, filter: Query[Filter], before: int | None = None) -> dict[str, Any]:
    return queries.page(queries.entries(request.user, **filter.dict(), before=before))


@router.get("/journal/kinds", response=list[str], operation_id="journal_kinds")
def kinds(request: SignedRequest) -> list[str]:
    return queries.kinds(request.user)


@router.get("/journal.csv", operation_id="journal_csv")
def as_csv(request: SignedRequest, filter: Query[Filter]) -> StreamingHttpResponse:
    answer = StreamingHttpResponse(
        queries.as_csv(queries.entries(request.user, **filter.dict())), content_type="text/csv; charset=utf-8"
    )
    answer["Content-Disposition"] = 'attachment; filename="journal.csv"'
    return answer
