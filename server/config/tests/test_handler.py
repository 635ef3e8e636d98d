"""Requests are answered in one thread, and answers leave at once."""

from __future__ import annotations

import socket
import threading
from typing import Any

from asgiref.sync import async_to_sync
from asgiref.testing import ApplicationCommunicator
from django.http import HttpRequest, HttpResponse
from django.test import SimpleTestCase, override_settings
from django.urls import path

from config.handler import InOneThread
from config.serve import listener

SEEN: list[int] = []


def note_the_thread(answer: Any) -> Any:
    def middleware(request: HttpRequest) -> HttpResponse:
        SEEN.append(threading.get_ident())
        return answer(request)

    return middleware


def view(request: HttpRequest) -> HttpResponse:
    SEEN.append(threading.get_ident())
    return HttpResponse("here")


urlpatterns = [path("here", view)]


class HandlerTest(SimpleTestCase):
    @override_settings(
        ROOT_URLCONF="config.tests.test_handler",
        MIDDLEWARE=["config.tests.test_handler.note_the_thread", "config.policy.ContentSecurityPolicy"],
    )
    def test_middleware_and_view_share_a_thread_and_answers_carry_the_policy(self) -> None:
        SEEN.clear()
        scope = {
            "type": "http", "http_version": "1.1", "method": "GET", "path": "/here", "query_string": b"",
            "headers": [(b"host", b"127.0.0.1")], "server": ("127.0.0.1", 80), "client": ("127.0.0.1", 1),
        }  # fmt: skip

        @async_to_sync
        async def asked() -> tuple[dict[str, Any], dict[str, Any]]:
            asking = ApplicationCommunicator(InOneThread(), scope)
            await asking.send_input({"type": "http.request", "body": b"", "more_body": False})
            return await asking.receive_output(5), await asking.receive_output(5)

        head, body = asked()
        self.assertEqual((head["status"], body["body"]), (200, b"here"))
        self.assertIn(b"Content-Security-Policy", dict(head["headers"]))
        self.assertEqual(len(SEEN), 2)
        self.assertEqual(SEEN[0], SEEN[1])

    def test_connections_send_what_they_have_at_once(self) -> None:
        with listener(0) as place, socket.create_connection(place.getsockname()), place.accept()[0] as accepted:
            self.assertTrue(accepted.getsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY))
