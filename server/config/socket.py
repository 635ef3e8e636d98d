"""The one WebSocket of a browser: pushes to its signed-in user, and quotes of the contracts it watches.

A browser may say ``{"watch": {"symbol": …, "contracts": […]}}``; quotes are public, everything else it
gets is its own user's. What changes faster than the browser takes it is conflated: it is sent the
difference between what it has and what is now.
"""

from __future__ import annotations

import asyncio
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from channels.generic.websocket import AsyncJsonWebsocketConsumer
from channels.security.websocket import WebsocketDenier

from config.edge import own_origin
from config.push import fanout
from venue.watch import Watch, read_live

_reader = ThreadPoolExecutor(1, "quotes")
"""One thread (and one database connection) reads the market for all browsers of this process."""


class Socket(AsyncJsonWebsocketConsumer):
    async def connect(self) -> None:
        self.sender: asyncio.Task[None] | None = None
        user = self.scope["user"]
        self.watch: Watch | None = None
        if user is None or not user.is_authenticated:
            await self.close()
            return
        await self.accept()
        self.owner = user.pk
        self.line = await fanout.join(self.owner)
        await self.send_json({"topic": "ready"})
        self.sender = asyncio.create_task(self._forward())

    async def _forward(self) -> None:
        while True:
            await self.line.wake.wait()
            self.line.wake.clear()
            while not self.line.queue.empty():
                await self.send_json(self.line.queue.get_nowait())
            moved, self.line.moved = self.line.moved, {}
            for symbol, what in moved.items():
                for kind in sorted(what - {"quotes"}):
                    await self.send_json({"topic": kind, "symbol": symbol})
                if "quotes" in what and self.watch is not None and self.watch.symbol == symbol:
                    await self._send_quotes(self.watch)

    async def _send_quotes(self, watch: Watch) -> None:
        now = await asyncio.get_running_loop().run_in_executor(_reader, read_live, watch.symbol)
        if now is not None and (message := watch.difference(now)) is not None:
            await self.send_json(message)

    @classmethod
    async def decode_json(cls, text_data: str) -> Any:
        try:
            return await super().decode_json(text_data)
        except (ValueError, RecursionError):
            return None

    async def receive(self, text_data: str | None = None, bytes_data: bytes | None = None, **kwargs: Any) -> None:
        """Bytes are not heard."""
        if text_data:
            await super().receive(text_data=text_data, **kwargs)

    async def receive_json(self, content: Any, **kwargs: Any) -> None:
        """Only what to watch can be said; anything else is not heard."""
        wanted = content.get("watch") if isinstance(content, dict) else None
        if self.sender is None or not isinstance(wanted, dict):
            return
        self.watch = Watch.parse(wanted)
        if self.watch is not None:
            self.line.move(self.watch.symbol, "quotes")

    async def disconnect(self, code: int) -> None:
        if self.sender is not None:
            self.sender.cancel()
            fanout.leave(self.owner, self.line)


class OwnOrigin:
    """Lets a page connect that is of the very address it connects to, port and all, and programs that say of no page."""

    def __init__(self, inner: Any) -> None:
        self.inner = inner

    async def __call__(self, scope: Any, receive: Any, send: Any) -> Any:
        headers = {name.decode("latin-1").lower(): value.decode("latin-1") for name, value in scope["headers"]}
        inner = self.inner if own_origin(headers.get("origin"), headers.get("host", "")) else WebsocketDenier()
        return await inner(scope, receive, send)
