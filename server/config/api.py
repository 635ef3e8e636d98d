"""The HTTP API: every app's routes under one root, errors in one shape."""

from typing import Any

from django.conf import settings
from django.core.exceptions import RequestDataTooBig
from django.db import OperationalError
from django.http import HttpRequest, HttpResponse
from ninja import NinjaAPI
from ninja.errors import HttpError, ValidationError

from config.edge import BoundedParser, TooLarge
from config.errors import Refused
from desk.api import router as desk
from facts.api import router as facts
from intake.api import router as intake
from journal.api import router as journal
from observe.api import router as observe
from people.access import door
from people.api import router as people
from practice_broker.api import router as practice_broker
from replay.api import router as replay
from runs.api import router as runs
from strategies.api import router as strategies
from sweeps.api import router as sweeps

api = NinjaAPI(title="Strell", version=settings.VERSION, docs_url=None, parser=BoundedParser())
for router in (people, observe, intake, facts, strategies, runs, sweeps, replay, desk, journal, practice_broker):
    for view in router.path_operations.values():
        for operation in view.operations:
            # who may call what stands in one table, not at each route
            operation.auth_param = operation.auth_callbacks = door(operation.operation_id or "") or []
    api.add_router("", router)


@api.exception_handler(Refused)
def refused(request: HttpRequest, error: Refused) -> HttpResponse:
    return api.create_response(request, {"message": error.message, "problems": error.problems}, status=error.status)


@api.exception_handler(HttpError)
def unreadable(request: HttpRequest, error: HttpError) -> HttpResponse:
    """What the framework itself refuses: no sign-in, a body that the parser did not take."""
    if isinstance(error.__cause__, Refused):
        return refused(request, error.__cause__)
    return api.create_response(request, {"message": str(error), "problems": []}, status=error.status_code)


@api.exception_handler(RequestDataTooBig)
def too_large(request: HttpRequest, error: RequestDataTooBig) -> HttpResponse:
    return refused(request, TooLarge(f"A body is at most {settings.DATA_UPLOAD_MAX_MEMORY_SIZE // 1000} kB."))


@api.exception_handler(OperationalError)
def away(request: HttpRequest, error: OperationalError) -> HttpResponse:
    message = "The database is away. What was done before is kept; try again in a moment."
    return api.create_response(request, {"message": message, "problems": []}, status=503)


@api.exception_handler(ValidationError)
def invalid(request: HttpRequest, error: ValidationError) -> HttpResponse:
    problems: list[dict[str, Any]] = [
        {"path": "/".join(str(part) for part in item["loc"][1:]), "message": item["msg"]} for item in error.errors
    ]
    first = problems[0] if problems else {"path": "", "message": "not valid"}
    return api.create_response(
        request, {"message": f"{first['path'].split('/')[-1]}: {first['message']}", "problems": problems}, status=422
    )
