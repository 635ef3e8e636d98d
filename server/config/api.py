"""The HTTP API: every app's routes under one root, errors in one shape."""

from typing import Any

from django.conf import settings
from django.db import OperationalError
from django.http import HttpRequest, HttpResponse
from ninja import NinjaAPI
from ninja.errors import ValidationError

from config.errors import Refused
from desk.api import router as desk
from facts.api import router as facts
from intake.api import router as intake
from journal.api import router as journal
from observe.api import router as observe
from people.access import ByToken, SignedIn
from people.api import router as people
from practice_broker.api import router as practice_broker
from replay.api import router as replay
from runs.api import router as runs
from strategies.api import router as strategies

api = NinjaAPI(title="Strell", version=settings.VERSION, auth=[ByToken(), SignedIn()], docs_url=None)
api.add_router("", people)
api.add_router("", observe)
api.add_router("", intake)
api.add_router("", facts)
api.add_router("", strategies)
api.add_router("", runs)
api.add_router("", replay)
api.add_router("", desk)
api.add_router("", journal)
api.add_router("", practice_broker)


@api.exception_handler(Refused)
def refused(request: HttpRequest, error: Refused) -> HttpResponse:
    return api.create_response(request, {"message": error.message, "problems": error.problems}, status=error.status)


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
