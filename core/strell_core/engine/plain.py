"""Frozen values as JSON data."""

from __future__ import annotations

import dataclasses
import datetime as dt
from collections.abc import Mapping
from decimal import Decimal
from functools import cache
from typing import Any

from strell_core.market.instruments import ContractKey
from strell_core.strategy.actions import Consequence, plain_consequence

UNSAID = {"unsaid": True}
"""Of a field that plain data leave out while it says nothing: what was written before there was one is the same."""
PLAIN = frozenset({str, int, bool, float})
"""Types that are JSON data already."""


@cache
def _names(kind: type) -> tuple[str, ...]:
    return tuple(field.name for field in dataclasses.fields(kind) if field.metadata != UNSAID)


@cache
def _unsaid(kind: type) -> tuple[str, ...]:
    return tuple(field.name for field in dataclasses.fields(kind) if field.metadata == UNSAID)


def to_plain(value: Any) -> Any:
    """Frozen values as JSON data."""
    if value is None or type(value) in PLAIN:
        return value
    if isinstance(value, ContractKey):
        return value.code
    if isinstance(value, Consequence):
        return plain_consequence(value)
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        out = {name: to_plain(getattr(value, name)) for name in _names(type(value))}
        for name in _unsaid(type(value)):
            if said := getattr(value, name):
                out[name] = to_plain(said)
        return out
    if isinstance(value, Mapping):
        return {str(key): to_plain(item) for key, item in value.items()}
    if isinstance(value, tuple | list):
        return [to_plain(item) for item in value]
    if isinstance(value, Decimal):
        return str(value)
    if isinstance(value, dt.date):
        return value.isoformat()
    return value
