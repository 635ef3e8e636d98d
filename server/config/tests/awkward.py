"""Awkward requests for every operation of the API: each field in turn holds what nobody means."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

DEEP = "[" * 3_000 + "]" * 3_000
RAW = (
    "9" * 200_000, "1e2000000", "-1e400", "1" * 30, "0.1e-4000", "NaN", "Infinity", DEEP, '{"a":' * 900 + "1" + "}" * 900,
    '"\\u0000"', '"a\\u0000b"', '"\\ud800"', '"\\udc00x"', '"' + "x" * 90_000 + '"', '"1e2000000"', '"-1e-2000000"', '"' + "9" * 5_000 + '"',
    '"0x' + "f" * 5_000 + '"', '"\\u202e\\ufffe"', '"2026-99-99"', '"9999-12-31"', '"0001-01-01"', '"25:61"', "null", "true", "[]", "{}",
    "[null, null]", '[{"a": []}]', '{"": {"": []}}', "-1", "0", "1e15", "9223372036854775808", "-9223372036854775809", '""', '" "',
    "[" + ",".join(["0"] * 60_000) + "]", "[" + ",".join(['"x"'] * 3_000) + "]", '"=1+1"', "\"' OR 1=1 --\"", '"<script>"', '"../../etc"',
)  # fmt: skip
"""JSON texts that stand where a value should."""
PATHS = (
    "0", "-1", "999999999999999999", "9" * 40, "1e9", "x", "%00", "a%00b", "%ED%A0%80", "%F0%9F%98%80", "..%2f..", "%2e", "y" * 3_000, "z" * 9_000,
    "0001-01-01", "9999-12-31", "2026-02-30", "null", "' OR 1=1 --",
)  # fmt: skip
"""Parts of an address, encoded."""
BODIES = ("", "{", "[", "null", "1", '"x"', "[null,null]", "\xff", "{}", '{"a":1,"a":2}', DEEP, "﻿{}", " " * 900_000)
"""Whole bodies."""


@dataclass(frozen=True)
class Request:
    operation: str
    method: str
    path: str
    body: str | None = None

    @property
    def raw(self) -> bytes:
        return (self.body or "").encode("latin-1" if "\xff" in (self.body or "") else "utf-8")

    def __str__(self) -> str:
        return f"{self.method} {self.path[:90]} {'' if self.body is None else self.body[:120]}"


def requests(schema: dict[str, Any], ids: dict[str, Any], good: dict[str, Any]) -> Iterator[Request]:
    """Every operation with every awkward part of an address, query, field and body. ``ids`` are values of path and query
    that exist, ``good`` bodies that would do, by operation."""
    for path, methods in schema["paths"].items():
        for method, operation in methods.items():
            name = operation["operationId"]
            place = filled(path, ids)
            wanted = [p for p in operation.get("parameters", []) if p["in"] == "query"]
            needed = "&".join(f"{p['name']}={ids.get(p['name'], 1)}" for p in wanted if p.get("required"))
            whole = place + (f"?{needed}" if needed else "")
            content = operation.get("requestBody", {}).get("content", {})
            body = json.dumps(good.get(name, {})) if "application/json" in content else None
            for part in (p["name"] for p in operation.get("parameters", []) if p["in"] == "path"):
                for value in PATHS:
                    yield Request(name, method, filled(path, {**ids, part: value}) + whole[len(place) :], body)
            for query in (p["name"] for p in wanted):
                rest = "".join(
                    f"&{p['name']}={ids.get(p['name'], 1)}" for p in wanted if p["name"] != query and p.get("required")
                )
                for value in PATHS:
                    yield Request(name, method, f"{place}?{query}={value}{rest}", body)
            if body is None:
                continue
            for text in BODIES:
                yield Request(name, method, whole, text)
            for text in fields(schema, content["application/json"]["schema"], good.get(name)):
                yield Request(name, method, whole, text)


def filled(path: str, values: dict[str, Any]) -> str:
    for name, value in values.items():
        path = path.replace("{" + name + "}", str(value))
    return path


def fields(schema: dict[str, Any], shape: dict[str, Any], good: Any) -> Iterator[str]:
    """Bodies in which one value, at any depth, is awkward and all others are as in ``good``."""
    known = names(schema, shape)
    base = good if good is not None else {}
    if isinstance(base, dict):
        base = {**{name: None for name in known if name not in base and good is None}, **base}
    for place in [*places(base), *((name,) for name in known if isinstance(base, dict) and name not in base)]:
        for raw in RAW:
            yield replaced(base, place, raw)


def names(schema: dict[str, Any], shape: dict[str, Any]) -> list[str]:
    if "$ref" in shape:
        shape = schema["components"]["schemas"][shape["$ref"].split("/")[-1]]
    return list(shape.get("properties", {}))


def places(value: Any, here: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """Where values stand in a body; of a list its first item."""
    items = value.items() if isinstance(value, dict) else list(enumerate(value))[:1] if isinstance(value, list) else ()
    for key, item in items:
        yield (*here, key)
        yield from places(item, (*here, key))


MARK = "@awkward@"


def replaced(value: Any, place: tuple[Any, ...], raw: str) -> str:
    """JSON of ``value`` with ``raw`` at a place."""
    made = json.loads(json.dumps(value))
    at = made
    for key in place[:-1]:
        at = at[key]
    at[place[-1]] = MARK
    return json.dumps(made).replace(f'"{MARK}"', raw)
