"""Strategies: shelf, sheet, revisions, text form, preview."""

from contextlib import suppress
from functools import lru_cache
from typing import Any

from django.http import HttpResponse
from ninja import Router

from config.errors import Refused
from people.access import SignedRequest
from strategies import queries, services
from strategies.models import Strategy
from strategies.preview import preview
from strategies.schemas import (
    AdditionOut,
    Change,
    CheckedText,
    DeclarationsOut,
    DifferenceRow,
    FromLegs,
    MadeFromLegs,
    NewStrategy,
    PreviewOut,
    RevisedOut,
    RevisionNote,
    RevisionOut,
    RevisionStep,
    StarterOut,
    StrategyOut,
    StrategyRow,
    TextIn,
    TextOut,
)
from strategies.track import track
from strell_core.formats.strategies import to_text
from strell_core.strategy.schema import json_schema

router = Router(tags=["strategies"])


def _whole(strategy: Strategy) -> dict[str, Any]:
    return {**queries.strategy_facts(strategy), "track": track(strategy)}


def _document(body: NewStrategy | Change) -> dict[str, Any]:
    if isinstance(body, NewStrategy) and body.begin is not None:
        return services.begun(body.begin.starter, body.begin.name, body.begin.underlying)
    return services.checked_text(body.text) if body.text is not None else services.checked(body.document)


@router.get("/declarations", response=DeclarationsOut, operation_id="declarations")
def declarations(request: SignedRequest) -> HttpResponse:
    return HttpResponse(_declarations_text(), content_type="application/json")


@lru_cache(maxsize=1)
def _declarations_text() -> str:
    """They are as they are while a process lives, and every page asks for them."""
    return DeclarationsOut.model_validate(queries.declarations()).model_dump_json()


@router.get("/strategy-schema.json", response=dict[str, Any], operation_id="strategy_schema")
def schema(request: SignedRequest) -> dict[str, Any]:
    return json_schema()


@router.get("/starters", response=list[StarterOut], operation_id="starters")
def starters(request: SignedRequest) -> list[dict[str, Any]]:
    """Strategies to begin from, one of each family."""
    return queries.starters_told()


@router.get("/strategies", response=list[StrategyRow], operation_id="strategies")
def strategies(request: SignedRequest) -> list[dict[str, Any]]:
    return [_whole(strategy) for strategy in queries.shelf(request.user)]


@router.post("/strategies", response=StrategyOut, operation_id="create_strategy")
def create(request: SignedRequest, body: NewStrategy) -> dict[str, Any]:
    return _whole(services.create(request.user, _document(body)))


@router.post("/strategies/from-legs", response=MadeFromLegs, operation_id="strategy_from_legs")
def from_legs(request: SignedRequest, body: FromLegs) -> dict[str, Any]:
    """Write rules that pick a structure as it was clicked together."""
    legs = [(leg.contract, leg.contracts) for leg in body.legs]
    strategy, notes = services.from_legs(request.user, body.symbol, body.at, legs, body.name)
    return {"id": strategy.pk, "name": strategy.latest.document["name"], "notes": notes}


@router.get("/strategies/{strategy_id}", response=StrategyOut, operation_id="strategy")
def strategy(request: SignedRequest, strategy_id: int) -> dict[str, Any]:
    return _whole(services.find(request.user, strategy_id))


@router.put("/strategies/{strategy_id}", response=RevisedOut, operation_id="revise_strategy")
def revise(request: SignedRequest, strategy_id: int, body: Change) -> dict[str, Any]:
    services.revise(request.user, strategy_id, _document(body), body.based_on)
    now, shown = services.find(request.user, strategy_id), None
    if body.preview is not None:
        # the change is kept, whether it can be shown or not
        with suppress(Refused):
            shown = preview(now.latest.document, request.user.pk, body.preview.at, body.preview.entry)
    return {**_whole(now), "preview": shown}


@router.delete("/strategies/{strategy_id}", response={204: None}, operation_id="delete_strategy")
def delete(request: SignedRequest, strategy_id: int) -> tuple[int, None]:
    services.delete(request.user, strategy_id)
    return 204, None


@router.post("/strategies/{strategy_id}/restore", response=StrategyOut, operation_id="restore_strategy")
def restore(request: SignedRequest, strategy_id: int) -> dict[str, Any]:
    return _whole(services.restore(request.user, strategy_id))


@router.post("/strategies/{strategy_id}/duplicate", response=StrategyOut, operation_id="duplicate_strategy")
def duplicate(
    request: SignedRequest, strategy_id: int, mirror: bool = False, revision: int | None = None
) -> dict[str, Any]:
    """A new strategy with the rules of this one, as they are or were in a revision."""
    return _whole(services.duplicate(request.user, strategy_id, mirror, revision))


@router.post(
    "/strategies/{strategy_id}/sentences/{sentence_id}/mirror", response=StrategyOut, operation_id="mirror_sentence"
)
def mirror_sentence(request: SignedRequest, strategy_id: int, sentence_id: str, based_on: int) -> dict[str, Any]:
    services.mirror_sentence(request.user, strategy_id, sentence_id, based_on)
    return _whole(services.find(request.user, strategy_id))


@router.post("/strategies/{strategy_id}/entries", response=StrategyOut, operation_id="add_entry")
def add_entry(
    request: SignedRequest, strategy_id: int, like: str, based_on: int, mirror: bool = False
) -> dict[str, Any]:
    """One more entry, which begins as one of the others is, or as its mirror."""
    services.add_entry(request.user, strategy_id, like, mirror, based_on)
    return _whole(services.find(request.user, strategy_id))


@router.get("/strategies/{strategy_id}/additions", response=list[AdditionOut], operation_id="additions")
def additions(request: SignedRequest, strategy_id: int) -> list[dict[str, Any]]:
    """Every sentence that may be added to a strategy, as it would stand in its document and as it would read."""
    return queries.additions_to(services.find(request.user, strategy_id))


@router.get("/strategies/{strategy_id}/revisions", response=list[RevisionStep], operation_id="revisions")
def revisions(request: SignedRequest, strategy_id: int) -> list[dict[str, Any]]:
    return queries.history(services.find(request.user, strategy_id))


@router.patch("/strategies/{strategy_id}/revisions/{number}", response=RevisionOut, operation_id="describe_revision")
def describe_revision(request: SignedRequest, strategy_id: int, number: int, body: RevisionNote) -> dict[str, Any]:
    """What a person says of a revision."""
    return queries.revision_facts(services.describe_revision(request.user, strategy_id, number, body.note))


@router.get(
    "/strategies/{strategy_id}/revisions/{number}/differences",
    response=list[DifferenceRow],
    operation_id="revision_differences",
)
def revision_differences(request: SignedRequest, strategy_id: int, number: int) -> list[dict[str, Any]]:
    """Sentences in which a revision differs from the latest: its own words, then the latest's."""
    return queries.against_latest(services.find(request.user, strategy_id), number)


@router.post("/strategies/{strategy_id}/revisions/{number}", response=StrategyOut, operation_id="go_back")
def go_back(request: SignedRequest, strategy_id: int, number: int) -> dict[str, Any]:
    services.go_back(request.user, strategy_id, number)
    return _whole(services.find(request.user, strategy_id))


@router.get("/strategies/{strategy_id}/text", response=TextOut, operation_id="strategy_text")
def text(request: SignedRequest, strategy_id: int) -> dict[str, Any]:
    return {"text": to_text(services.find(request.user, strategy_id).latest.document)}


@router.get("/strategies/{strategy_id}/file", operation_id="strategy_file")
def file(request: SignedRequest, strategy_id: int) -> HttpResponse:
    document = services.find(request.user, strategy_id).latest.document
    name = "".join(c if c.isascii() and c.isalnum() else "-" for c in document["name"]).strip("-").lower() or "strategy"
    response = HttpResponse(to_text(document), content_type="application/yaml; charset=utf-8")
    response["Content-Disposition"] = f'attachment; filename="{name}.yaml"'
    return response


@router.post("/strategy-text/check", response=CheckedText, operation_id="check_text")
def check_text(request: SignedRequest, body: TextIn) -> dict[str, Any]:
    document = services.checked_text(body.text)
    return {"document": document, "sheet": queries.sheet_of(document)}


@router.get("/strategies/{strategy_id}/preview", response=PreviewOut, operation_id="preview")
def preview_strategy(
    request: SignedRequest, strategy_id: int, at: str | None = None, entry: str | None = None
) -> dict[str, Any]:
    return preview(services.find(request.user, strategy_id).latest.document, request.user.pk, at, entry)
