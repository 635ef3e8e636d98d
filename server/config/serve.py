"""The web process: the pages, the API and the WebSocket, on loopback. ``python -m config.serve PORT``

Whose address a request comes from is what the connection says: a header that says otherwise is anybody's to write.
"""

from __future__ import annotations

import socket
import sys

import uvicorn

MOST_SAID = 256_000
"""Bytes of one message of a browser's WebSocket."""


def serve(place: socket.socket) -> None:
    """Serve until stopped."""
    uvicorn.Server(
        uvicorn.Config(
            "config.asgi:application", lifespan="off", log_level="warning",
            proxy_headers=False, server_header=False, timeout_graceful_shutdown=3, ws_max_size=MOST_SAID,
        )
    ).run(sockets=[place])  # fmt: skip


def listener(port: int) -> socket.socket:
    """A socket on loopback; its connections send what they have at once. Left to themselves they would hold an answer's
    body back until the browser has acknowledged its head, which takes it 40 ms."""
    # two processes listen on one port; nobody of another user can join them
    place = socket.create_server(("127.0.0.1", port), backlog=256, reuse_port=True)
    place.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    return place


if __name__ == "__main__":
    serve(listener(int(sys.argv[1])))
