"""HTTP and WebSocket entry."""

import os

import django
from channels.auth import AuthMiddlewareStack
from channels.routing import ProtocolTypeRouter, URLRouter
from channels.security.websocket import AllowedHostsOriginValidator
from django.urls import path

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
django.setup(set_prefix=False)

from config.handler import InOneThread  # noqa: E402  (Django must be set up first)
from config.socket import OwnOrigin, Socket  # noqa: E402
from runs.warm import warm_in_background  # noqa: E402

warm_in_background()

# the stubs know paths to views only, not to consumers
_sockets = URLRouter([path("ws", Socket.as_asgi())])  # type: ignore[arg-type, list-item]

application = ProtocolTypeRouter(
    {"http": InOneThread(), "websocket": AllowedHostsOriginValidator(OwnOrigin(AuthMiddlewareStack(_sockets)))}
)
