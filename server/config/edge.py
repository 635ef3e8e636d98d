"""The edge: what no request may bring, refused before anything reads it.

Bodies are bounded in size and in what they hold; a text has no NUL and no half of a surrogate pair, which no database
stores; a change is asked for by a page of this very address, or by a script that says of no page.
"""

from __future__ import annotations

import json
import math
from collections.abc import Callable
from typing import Any
from urllib.parse import urlsplit

from django.conf import settings
from django.core.exceptions import DisallowedHost
from django.http import HttpRequest, HttpResponse, JsonResponse
from ninja.parser import Parser

from config.errors import Refused
from strell_core.market.prices import number

MOST_VALUES = 50_000
MOST_LEVELS = 40
LONGEST_NUMBER = 60
LONGEST_QUERY = 8_000
SURELY_SMALL = 15
"""Digits of a whole number that needs no looking at."""
SAFE = ("GET", "HEAD", "OPTIONS")


class TooLarge(Refused):
    status = 413


class Unreadable(Refused):
    status = 400


class Stranger(Refused):
    status = 403


class BoundedParser(Parser):
    """JSON bodies whose numbers, texts, depth and count are bounded."""

    def parse_body(self, request: HttpRequest) -> Any:
        try:
            made = json.loads(request.body, parse_int=_whole, parse_float=_fraction, parse_constant=_no_number)
        except RecursionError as error:
            raise Unreadable("The body is nested too deeply.") from error
        except UnicodeDecodeError as error:
            raise Unreadable("The body is not UTF-8.") from error
        except json.JSONDecodeError as error:
            raise Unreadable(f"The body is not JSON: {error.msg} in line {error.lineno}.") from error
        except ValueError as error:
            raise Unreadable(f"The body cannot be read: {error}.") from error
        check(made)
        return made


def _whole(text: str) -> int:
    return int(text) if len(text) <= SURELY_SMALL else int(number(text))


def _fraction(text: str) -> float:
    made = float(text)
    if len(text) > LONGEST_NUMBER or not math.isfinite(made):
        raise ValueError(f"'{text[:LONGEST_NUMBER]}' is too large a number")
    return made


def _no_number(text: str) -> float:
    raise ValueError(f"'{text}' is not a number")


def check(made: Any) -> None:
    """Raises :class:`Unreadable` for a text that cannot be kept, and for a body of more values or levels than any
    request needs."""
    waiting, count = [(made, 1)], 0
    while waiting:
        value, level = waiting.pop()
        count += 1
        if count > MOST_VALUES:
            raise Unreadable(f"The body holds more than {MOST_VALUES} values.")
        if level > MOST_LEVELS:
            raise Unreadable("The body is nested too deeply.")
        if isinstance(value, str):
            check_text(value)
        elif isinstance(value, dict):
            for key, item in value.items():
                check_text(key)
                waiting.append((item, level + 1))
        elif isinstance(value, list):
            waiting += [(item, level + 1) for item in value]


def check_text(text: str) -> None:
    if "\x00" in text:
        raise Unreadable("A text holds a NUL character.")
    if not text.isascii():
        try:
            text.encode()
        except UnicodeEncodeError as error:
            raise Unreadable("A text holds half of a surrogate pair.") from error


def _refused(error: Refused) -> HttpResponse:
    return JsonResponse({"message": error.message, "problems": []}, status=error.status)


class Edge:
    """The first middleware."""

    def __init__(self, answer: Callable[[HttpRequest], HttpResponse]) -> None:
        self.answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponse:
        why = refusal(request)
        return self.answer(request) if why is None else _refused(why)


def refusal(request: HttpRequest) -> Refused | None:
    """What keeps a request out, if anything does."""
    query = request.META.get("QUERY_STRING", "")
    if len(query) > LONGEST_QUERY or len(request.path) > LONGEST_QUERY:
        return TooLarge("The address is too long.")
    if "\x00" in request.path or "\x00" in query or "%00" in query:
        return Unreadable("The address holds a NUL character.")
    if request.method in SAFE:
        return None
    try:
        host = request.get_host()
    except DisallowedHost:
        return Stranger("Strell is not asked under this name.")
    if not own_origin(request.headers.get("Origin"), host):
        return Stranger("Changes are made from Strell's own pages, or by a script that says of no page.")
    plain = not (request.content_type or "").startswith("multipart/")
    length = request.META.get("CONTENT_LENGTH") or ""
    if plain and length.isdigit() and int(length[:20]) > settings.DATA_UPLOAD_MAX_MEMORY_SIZE:
        return TooLarge(f"A body is at most {settings.DATA_UPLOAD_MAX_MEMORY_SIZE // 1000} kB.")
    return None


def own_origin(origin: str | None, host: str) -> bool:
    """Whether a page that asks is of the address it asks: name and port alike. Scripts say of no page."""
    if origin is None:
        return True
    try:
        return urlsplit(origin).netloc.lower() == host.lower() != ""
    except ValueError:
        return False
