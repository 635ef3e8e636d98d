"""The front end's page and the health check."""

from django.conf import settings
from django.db import connection
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.views.decorators.csrf import ensure_csrf_cookie


@ensure_csrf_cookie
def index(request: HttpRequest) -> HttpResponse:
    page = settings.DIST / "index.html"
    if not page.exists():
        return HttpResponse("The front end is not built. Run ./strell demo, which builds it.", status=503)
    return HttpResponse(page.read_bytes(), headers={"Cache-Control": "no-cache"})


def health(request: HttpRequest) -> JsonResponse:
    with connection.cursor() as cursor:
        cursor.execute("SELECT 1")
    return JsonResponse({"status": "ready"})
