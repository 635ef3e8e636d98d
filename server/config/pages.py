"""The front end's page and the health check."""

from django.conf import settings
from django.db import OperationalError
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.views.decorators.csrf import ensure_csrf_cookie

from config.process import away

CSRF_META = b'name="csrf-cookie" content="%s"'


@ensure_csrf_cookie
def index(request: HttpRequest) -> HttpResponse:
    page = settings.DIST / "index.html"
    if not page.exists():
        return HttpResponse("The front end is not built. Run ./strell demo, which builds it.", status=503)
    # each installation calls its cookie its own name
    named = page.read_bytes().replace(CSRF_META % b"", CSRF_META % settings.CSRF_COOKIE_NAME.encode())
    return HttpResponse(named, headers={"Cache-Control": "no-cache"})


def health(request: HttpRequest) -> JsonResponse:
    """Whether pages are answered, and which other processes are away just now."""
    try:
        return JsonResponse({"status": "ready", "away": away()})
    except OperationalError:
        return JsonResponse({"status": "the database is away", "away": ["database"]}, status=503)
