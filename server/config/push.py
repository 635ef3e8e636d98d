"""Pushes: NOTIFY from any process, one LISTEN connection a web process, bounded queues a browser.

A push says only what changed; the browser asks for the rest. When a browser is slow, its queue drops
to a single "everything" message, so delay never grows.
"""

from __future__ import annotations

import asyncio
import json
import logging
from typing import Any

import psycopg
from django.db import connection

CHANNEL = "strell"
MARKET = "strell_market"
DESK = "strell_desk"
QUEUE_LIMIT = 64
log = logging.getLogger("strell.push")


def notify(user_id: int, topic: str, key: int | str, **facts: Any) -> None:
    """Tell ``user_id``'s browsers that something changed; delivered when the transaction commits."""
    payload = json.dumps({"user": user_id, "topic": topic, "id": key, **facts})
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", [CHANNEL, payload])


def notify_market(symbol: str, what: str) -> None:
    """Tell every process that a market moved: ``quotes``, ``recorded`` or ``clock``."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", [MARKET, json.dumps({"symbol": symbol, "what": what})])


def notify_desk(what: str) -> None:
    """Wake the desk and the gateways: an order, a report, a deployment waits."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", [DESK, what])


class Ear:
    """A connection of its own that hears notifications, for processes that wait for them."""

    def __init__(self, *channels: str) -> None:
        self._channels = channels

    def __enter__(self) -> Ear:
        settings = connection.settings_dict
        self._connection = psycopg.connect(
            host=settings["HOST"], port=settings["PORT"], dbname=settings["NAME"], user=settings["USER"],
            password=settings["PASSWORD"], autocommit=True,
        )  # fmt: skip
        for channel in self._channels:
            self._connection.execute(f"LISTEN {channel}")
        return self

    def __exit__(self, *error: object) -> None:
        self._connection.close()

    def wait(self, seconds: float) -> bool:
        """Whether something was said within ``seconds``; what was said together is heard together."""
        heard = False
        for _ in self._connection.notifies(timeout=seconds, stop_after=1):
            heard = True
        for _ in self._connection.notifies(timeout=0):
            pass
        return heard


class Fanout:
    """Queues of the browsers connected to this process, fed by one LISTEN connection."""

    def __init__(self) -> None:
        self._queues: dict[int, set[asyncio.Queue[dict[str, Any]]]] = {}
        self._task: asyncio.Task[None] | None = None
        self._loop: asyncio.AbstractEventLoop | None = None

    async def join(self, user_id: int) -> asyncio.Queue[dict[str, Any]]:
        loop = asyncio.get_running_loop()
        if self._task is None or self._task.done() or self._loop is not loop:
            self._loop = loop
            self._queues = {}
            self._task = asyncio.create_task(self._listen())
        queue: asyncio.Queue[dict[str, Any]] = asyncio.Queue(QUEUE_LIMIT)
        self._queues.setdefault(user_id, set()).add(queue)
        return queue

    def leave(self, user_id: int, queue: asyncio.Queue[dict[str, Any]]) -> None:
        self._queues.get(user_id, set()).discard(queue)

    async def close(self) -> None:
        """End the connection; the next :meth:`join` opens another."""
        if self._task is not None:
            self._task.cancel()
            await asyncio.gather(self._task, return_exceptions=True)

    async def _listen(self) -> None:
        settings = connection.settings_dict
        while True:
            try:
                listening = await psycopg.AsyncConnection.connect(
                    host=settings["HOST"], port=settings["PORT"], dbname=settings["NAME"],
                    user=settings["USER"], password=settings["PASSWORD"], autocommit=True,
                )  # fmt: skip
                async with listening:
                    await listening.execute(f"LISTEN {CHANNEL}")
                    self._everyone({"topic": "everything"})
                    async for message in listening.notifies():
                        self._deliver(json.loads(message.payload))
            except psycopg.OperationalError as error:
                log.warning("the push connection was lost (%s); trying again", error)
                await asyncio.sleep(1)

    def _deliver(self, message: dict[str, Any]) -> None:
        for queue in self._queues.get(message.pop("user"), ()):
            self._put(queue, message)

    def _everyone(self, message: dict[str, Any]) -> None:
        for queues in self._queues.values():
            for queue in queues:
                self._put(queue, message)

    @staticmethod
    def _put(queue: asyncio.Queue[dict[str, Any]], message: dict[str, Any]) -> None:
        if queue.full():
            while not queue.empty():
                queue.get_nowait()
            message = {"topic": "everything"}
        queue.put_nowait(message)


fanout = Fanout()
