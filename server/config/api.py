"""The HTTP API: every app's routes under one root, errors in one shape."""

from typing import Any

from django.http import HttpRequest, HttpResponse
from ninja import NinjaAPI
from ninja.errors import ValidationError
from ninja.security import django_auth

from config.errors import Refused
from market.api import router as market
from people.api import router as people
from replay.api import router as replay
from runs.api import router as runs
from strategies.api import router as strategies

api = NinjaAPI(title="Strell", version="1", auth=django_auth, docs_url=None)
api.add_router("", people)
api.add_router("", market)
api.add_router("", strategies)
api.add_router("", runs)
api.add_router("", replay)


@api.exception_handler(Refused)
def refused(request: HttpRequest, error: Refused) -> HttpResponse:
    return api.create_response(request, {"message": error.message, "problems": error.problems}, status=error.status)


@api.exception_handler(ValidationError)
def invalid(request: HttpRequest, error: ValidationError) -> HttpResponse:
    problems: list[dict[str, Any]] = [
        {"path": "/".join(str(part) for part in item["loc"][1:]), "message": item["msg"]} for item in error.errors
    ]
    first = problems[0] if problems else {"path": "", "message": "not valid"}
    return api.create_response(
        request, {"message": f"{first['path'].split('/')[-1]}: {first['message']}", "problems": problems}, status=422
    )
