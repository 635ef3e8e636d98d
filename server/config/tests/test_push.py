"""Pushes reach the browsers of one person only, and a slow browser never builds up delay."""

from __future__ import annotations

import asyncio
import json
from typing import Any

from asgiref.sync import sync_to_async
from asgiref.testing import ApplicationCommunicator
from django.contrib.auth.models import AnonymousUser, User
from django.db import transaction
from django.test import SimpleTestCase

from config.push import QUEUE_LIMIT, Fanout, Line, notify
from config.push import fanout as shared
from config.socket import OwnOrigin, Socket


class FanoutTest(SimpleTestCase):
    databases = {"default"}
    """What is said is heard when it is committed; nothing is stored."""

    def fanout(self) -> Fanout:
        made = Fanout()
        self.made.append(made)
        return made

    def setUp(self) -> None:
        self.made: list[Fanout] = []

    async def leave(self) -> None:
        for made in self.made:
            await made.close()

    async def arrivals(self, line: Line, seconds: float = 2.0) -> list[dict[str, Any]]:
        found = []
        try:
            while True:
                found.append(await asyncio.wait_for(line.queue.get(), seconds))
                seconds = 0.2
        except TimeoutError:
            return found

    async def test_each_person_gets_their_own(self) -> None:
        fanout = self.fanout()
        first, second = await fanout.join(1), await fanout.join(2)
        await self.arrivals(first)  # the connection says "everything" when it is there
        await sync_to_async(notify)(1, "run", 7, strategy=3)
        self.assertEqual(await self.arrivals(first), [{"topic": "run", "id": 7, "strategy": 3}])
        self.assertNotIn("run", [message["topic"] for message in await self.arrivals(second, 0.2)])
        fanout.leave(1, first)
        await sync_to_async(notify)(1, "run", 8)
        self.assertEqual(await self.arrivals(first, 0.3), [])
        await self.leave()

    async def test_nothing_is_said_of_what_was_rolled_back(self) -> None:
        fanout = self.fanout()
        queue = await fanout.join(1)
        await self.arrivals(queue)

        def undone() -> None:
            with transaction.atomic():
                notify(1, "run", 7)
                transaction.set_rollback(True)

        await sync_to_async(undone)()
        self.assertEqual(await self.arrivals(queue, 0.3), [])
        await self.leave()

    async def knock(self, user: Any, answer: str = "accept") -> ApplicationCommunicator:
        """A socket opened by a user, and how that is answered."""
        socket = ApplicationCommunicator(
            Socket.as_asgi(), {"type": "websocket", "path": "/ws", "headers": [], "user": user}
        )
        await socket.send_input({"type": "websocket.connect"})
        self.assertEqual((await socket.receive_output())["type"], f"websocket.{answer}")
        return socket

    async def test_a_socket_needs_a_sign_in(self) -> None:
        stranger = await self.knock(AnonymousUser(), "close")
        self.assertTrue(await stranger.receive_nothing())
        signed_in = await self.knock(User(pk=1, username="mara"))
        self.assertEqual(json.loads((await signed_in.receive_output())["text"]), {"topic": "ready"})
        self.assertEqual(json.loads((await signed_in.receive_output(5))["text"]), {"topic": "everything"})
        for nonsense in (
            {"text": "{"},
            {"text": "[" * 90_000},
            {"text": '{"watch": {"symbol": 7}}'},
            {"bytes": b"\x00"},
            {"text": ""},
        ):
            await signed_in.send_input({"type": "websocket.receive", **nonsense})
        self.assertTrue(await signed_in.receive_nothing(), "and the line stays up")
        await signed_in.send_input({"type": "websocket.disconnect", "code": 1000})
        await signed_in.wait()
        await shared.close()


class OriginTest(SimpleTestCase):
    async def opened(self, origin: str | None) -> str:
        """What becomes of a socket that a page of this origin opens."""

        async def inner(scope: Any, receive: Any, send: Any) -> None:
            await send({"type": "websocket.accept"})

        headers = [(b"host", b"127.0.0.1:8470")] + ([] if origin is None else [(b"origin", origin.encode())])
        socket = ApplicationCommunicator(OwnOrigin(inner), {"type": "websocket", "path": "/ws", "headers": headers})
        await socket.send_input({"type": "websocket.connect"})
        return (await socket.receive_output())["type"]

    async def test_a_page_of_another_port_is_another_address(self) -> None:
        for own in ("http://127.0.0.1:8470", None):
            self.assertEqual(await self.opened(own), "websocket.accept")
        for foreign in ("http://127.0.0.1:8471", "http://localhost:8470", "http://127.0.0.1", "null", "http://["):
            self.assertEqual(await self.opened(foreign), "websocket.close", foreign)


class SlowBrowserTest(SimpleTestCase):
    def test_a_full_queue_becomes_one_message(self) -> None:
        line = Line()
        for number in range(QUEUE_LIMIT + 1):
            line.put({"topic": "run", "id": number})
        self.assertEqual([line.queue.get_nowait() for _ in range(line.queue.qsize())], [{"topic": "everything"}])

    def test_a_market_that_moved_often_is_told_once(self) -> None:
        line = Line()
        for what in ("quotes", "quotes", "recorded", "quotes"):
            line.move("MK30", what)
        self.assertEqual(line.moved, {"MK30": {"quotes", "recorded"}})
        self.assertTrue(line.wake.is_set())
