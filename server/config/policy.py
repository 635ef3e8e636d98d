"""Content security policy on every response."""

from collections.abc import Callable
from typing import Any

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.utils.decorators import sync_and_async_middleware


@sync_and_async_middleware
def ContentSecurityPolicy(get_response: Callable[..., Any]) -> Callable[..., Any]:  # noqa: N802
    import inspect

    if inspect.iscoroutinefunction(get_response):

        async def async_middleware(request: HttpRequest) -> HttpResponse:
            return _mark(await get_response(request))

        return async_middleware

    def middleware(request: HttpRequest) -> HttpResponse:
        return _mark(get_response(request))

    return middleware


def _mark(response: HttpResponse) -> HttpResponse:
    response.headers.setdefault("Content-Security-Policy", settings.CONTENT_SECURITY_POLICY)
    return response
