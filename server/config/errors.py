"""Errors a caller can do something about. Services raise them, the API turns them into answers."""

from __future__ import annotations

from typing import Any


class Refused(Exception):
    """The request cannot be done as asked. ``problems`` are ``{path, message, line?}``."""

    status = 422

    def __init__(self, message: str, problems: list[dict[str, Any]] | None = None) -> None:
        super().__init__(message)
        self.message = message
        self.problems = problems or []


class NotThere(Refused):
    status = 404


class Conflict(Refused):
    status = 409


class Forbidden(Refused):
    status = 403
