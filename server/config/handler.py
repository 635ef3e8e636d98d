"""How a request is answered: in one thread, from its first middleware to its view.

Django's own handler would change between the event loop and a thread at each middleware, although all of them and all
views are synchronous; that took longer than most answers.
"""

from __future__ import annotations

from asgiref.sync import sync_to_async
from django.core.handlers.asgi import ASGIHandler, ASGIRequest
from django.http.response import HttpResponseBase


class InOneThread(ASGIHandler):
    def load_middleware(self, is_async: bool = False) -> None:
        super().load_middleware(is_async=False)

    async def get_response_async(self, request: ASGIRequest) -> HttpResponseBase:  # type: ignore[override]
        return await sync_to_async(self.get_response)(request)
