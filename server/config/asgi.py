"""HTTP and WebSocket entry."""

import os
from typing import Any

from channels.auth import AuthMiddlewareStack
from channels.routing import ProtocolTypeRouter, URLRouter
from channels.security.websocket import AllowedHostsOriginValidator, WebsocketDenier
from django.core.asgi import get_asgi_application
from django.urls import path

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
http = get_asgi_application()

from config.edge import own_origin  # noqa: E402
from config.socket import Socket  # noqa: E402  (Django must be set up first)
from runs.warm import warm_in_background  # noqa: E402

warm_in_background()


class OwnOrigin:
    """Lets a page connect that is of the very address it connects to, port and all, and programs that say of no page."""

    def __init__(self, inner: Any) -> None:
        self.inner = inner

    async def __call__(self, scope: Any, receive: Any, send: Any) -> Any:
        headers = {name.decode("latin-1").lower(): value.decode("latin-1") for name, value in scope["headers"]}
        inner = self.inner if own_origin(headers.get("origin"), headers.get("host", "")) else WebsocketDenier()
        return await inner(scope, receive, send)


# the stubs know paths to views only, not to consumers
_sockets = URLRouter([path("ws", Socket.as_asgi())])  # type: ignore[arg-type, list-item]

application = ProtocolTypeRouter(
    {"http": http, "websocket": AllowedHostsOriginValidator(OwnOrigin(AuthMiddlewareStack(_sockets)))}
)
