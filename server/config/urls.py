"""API, pages, health."""

from django.urls import path, re_path

from config.api import api
from config.pages import health, index

urlpatterns = [
    path("api/", api.urls),
    path("health", health),
    re_path(r"^(?!api/|static/|ws).*$", index),
]
