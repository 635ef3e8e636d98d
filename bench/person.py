"""Somebody signed in at a running demo, for what is measured and tried from outside."""

from __future__ import annotations

import http.cookiejar
import json
import os
import time
import urllib.error
import urllib.request
from typing import Any

BASE = "http://127.0.0.1:8470"
ADDRESS = os.environ.get("STRELL_ADDRESS", BASE)
"""Where the demo runs that is measured."""


class Person:
    """Somebody signed in at the running demo."""

    def __init__(self, base: str, name: str, password: str) -> None:
        self.base = base
        self.cookies = http.cookiejar.CookieJar()
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.cookies))
        self.ask("GET", "/api/me")
        self.ask("POST", "/api/sign-in", {"name": name, "password": password})

    @property
    def cookie(self) -> str:
        """The header that carries the session."""
        return "; ".join(f"{c.name}={c.value}" for c in self.cookies)

    @property
    def csrf(self) -> str:
        return next((c.value or "" for c in self.cookies if c.name.startswith("strell_csrf_")), "")

    def ask(self, method: str, path: str, body: Any = None, patience: float = 30) -> Any:
        """The answer, tried again while nobody answers."""
        end = time.monotonic() + patience
        while True:
            headers = {"Content-Type": "application/json", "X-CSRFToken": self.csrf}
            data = None if body is None else json.dumps(body).encode()
            request = urllib.request.Request(self.base + path, data, headers, method=method)
            try:
                with self.opener.open(request, timeout=10) as answer:
                    text = answer.read()
                    return json.loads(text) if text else None
            except urllib.error.HTTPError as error:
                if error.code < 500 or time.monotonic() > end:
                    raise RuntimeError(f"{method} {path}: {error.code} {error.read().decode()[:300]}") from error
            except OSError:
                if time.monotonic() > end:
                    raise
            time.sleep(0.1)


def health(base: str) -> list[str] | None:
    """Which processes are away; ``None``: nobody answers."""
    try:
        with urllib.request.urlopen(base + "/health", timeout=2) as answer:
            return json.load(answer)["away"]
    except (OSError, ValueError):
        return None
