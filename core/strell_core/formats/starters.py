"""Strategies to begin from: one of each family, with what it lives from and what hurts it."""

from __future__ import annotations

import copy
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import yaml

from strell_core.strategy.document import normalise

FILE = Path(__file__).with_name("starters.yaml")


@dataclass(frozen=True)
class Starter:
    id: str
    family: str
    title: str
    lives: str
    """What it earns from."""
    hurts: str
    needs_units: bool
    """It deals in the underlying itself, which an index is not."""
    strategy: dict[str, Any]
    """A document without its name and underlyings."""

    def document(self, name: str, underlying: str) -> dict[str, Any]:
        """A normalised document of it."""
        return normalise({"name": name, "underlyings": [underlying], **copy.deepcopy(self.strategy)})


@cache
def starters() -> tuple[Starter, ...]:
    """All of them, in the order in which they are offered."""
    loader = getattr(yaml, "CSafeLoader", yaml.SafeLoader)
    return tuple(Starter(**item) for item in yaml.load(FILE.read_text(), loader))
