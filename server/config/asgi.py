"""HTTP and WebSocket entry."""

import os

from channels.auth import AuthMiddlewareStack
from channels.routing import ProtocolTypeRouter, URLRouter
from channels.security.websocket import AllowedHostsOriginValidator
from django.core.asgi import get_asgi_application
from django.urls import path

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
http = get_asgi_application()

from config.socket import OwnOrigin, Socket  # noqa: E402  (Django must be set up first)
from runs.warm import warm_in_background  # noqa: E402

warm_in_background()

# the stubs know paths to views only, not to consumers
_sockets = URLRouter([path("ws", Socket.as_asgi())])  # type: ignore[arg-type, list-item]

application = ProtocolTypeRouter(
    {"http": http, "websocket": AllowedHostsOriginValidator(OwnOrigin(AuthMiddlewareStack(_sockets)))}
)
