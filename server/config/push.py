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
    """A connection of its own that hears notifications and holds locks, for processes that must be the only one.

    When it breaks, :meth:`wait` raises ``psycopg.OperationalError``.
    """

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

    def take(self, name: str) -> bool:
        """Whether this connection holds the advisory lock ``name``; at most one in the cluster does, and
        it is free again the moment the connection is gone."""
        found = self._connection.execute("SELECT pg_try_advisory_lock(hashtext(%s))", [f"strell {name}"]).fetchone()
        return bool(found and found[0])

    def wait(self, seconds: float) -> bool:
        """Whether something was said within ``seconds``; what was said together is heard together."""
        heard = False
        for _ in self._connection.notifies(timeout=seconds, stop_after=1):
            heard = True
        for _ in self._connection.notifies(timeout=0):
            pass
        return heard


class Line:
    """What waits to be sent to one browser: messages in their order, and which markets moved."""

    def __init__(self) -> None:
        self.queue: asyncio.Queue[dict[str, Any]] = asyncio.Queue(QUEUE_LIMIT)
        self.moved: dict[str, set[str]] = {}
        self.wake = asyncio.Event()

    def put(self, message: dict[str, Any]) -> None:
        if self.queue.full():
            while not self.queue.empty():
                self.queue.get_nowait()
            message = {"topic": "everything"}
        self.queue.put_nowait(message)
        self.wake.set()

    def move(self, symbol: str, what: str) -> None:
        """A market moved; however often it does before the browser is served, it is told once."""
        self.moved.setdefault(symbol, set()).add(what)
        self.wake.set()


class Fanout:
    """Lines of the browsers connected to this process, fed by one LISTEN connection."""

    def __init__(self) -> None:
        self._lines: dict[int, set[Line]] = {}
        self._task: asyncio.Task[None] | None = None
        self._loop: asyncio.AbstractEventLoop | None = None

    async def join(self, user_id: int) -> Line:
        loop = asyncio.get_running_loop()
        if self._task is None or self._task.done() or self._loop is not loop:
            self._loop = loop
            self._lines = {}
            self._task = asyncio.create_task(self._listen())
        line = Line()
        self._lines.setdefault(user_id, set()).add(line)
        return line

    def leave(self, user_id: int, line: Line) -> None:
        self._lines.get(user_id, set()).discard(line)

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
                    await listening.execute(f"LISTEN {MARKET}")
                    for line in self._everyone():
                        line.put({"topic": "everything"})
                    async for message in listening.notifies():
                        self._deliver(message.channel, json.loads(message.payload))
            except psycopg.OperationalError as error:
                log.warning("the push connection was lost (%s); trying again", error)
                await asyncio.sleep(1)

    def _everyone(self) -> list[Line]:
        return [line for lines in self._lines.values() for line in lines]

    def _deliver(self, channel: str, message: dict[str, Any]) -> None:
        if channel == MARKET:
            for line in self._everyone():
                line.move(message["symbol"], message["what"])
            return
        for line in self._lines.get(message.pop("user"), ()):
            line.put(message)


fanout = Fanout()
