"""The one WebSocket of a browser: pushes to its signed-in user, nothing comes in."""

from __future__ import annotations

import asyncio
from typing import Any

from channels.generic.websocket import AsyncJsonWebsocketConsumer

from config.push import fanout

NOT_SIGNED_IN = 4401


class Socket(AsyncJsonWebsocketConsumer):
    async def connect(self) -> None:
        self.sender: asyncio.Task[None] | None = None
        self.user = self.scope["user"]
        await self.accept()
        if not self.user.is_authenticated:
            await self.close(NOT_SIGNED_IN)
            return
        self.queue = await fanout.join(self.user.pk)
        await self.send_json({"topic": "ready"})
        self.sender = asyncio.create_task(self._forward())

    async def _forward(self) -> None:
        while True:
            await self.send_json(await self.queue.get())

    async def receive_json(self, content: Any, **kwargs: Any) -> None:
        """Browsers have nothing to say here."""

    async def disconnect(self, code: int) -> None:
        if self.sender is not None:
            self.sender.cancel()
            fanout.leave(self.user.pk, self.queue)
