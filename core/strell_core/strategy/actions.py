"""What rules ask for: legs closed, opened or moved, stops set, entries made again. Plain values that serialise."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

from strell_core.market.instruments import ContractKey


@dataclass(frozen=True)
class Close:
    """Close legs, all without names; a ``share`` closes so much of the lots at the entry's end, once a trade."""

    legs: tuple[str, ...] = ()
    share: Fraction | None = None


@dataclass(frozen=True)
class StopToEntry:
    """Put a leg's stop at the average price it was opened for."""

    leg: str


@dataclass(frozen=True)
class CloseAlso:
    """Close a partner leg at the market."""

    leg: str


@dataclass(frozen=True)
class Reenter:
    """Enter again by the rules of an entry (empty: the trade's own), at most so often in a chain: at once, or ``later``, at
    its next decision time; with fresh picks, or in the ``same`` contracts."""

    entry: str = ""
    at_most: int = 1
    later: bool = False
    same: bool = False


Consequence = StopToEntry | CloseAlso | Reenter
"""What follows when an exit's order is complete (semantics rule 16)."""
_NAMES: dict[str, type[Consequence]] = {"stop to entry": StopToEntry, "close also": CloseAlso, "re-enter": Reenter}


@dataclass(frozen=True)
class Roll:
    """Close a leg and open another contract in its place, with as many contracts."""

    leg: str
    to: ContractKey


@dataclass(frozen=True)
class OpenLeg:
    """Open a leg against those that stay; ``contracts`` signed, for the whole trade."""

    leg: str
    contract: ContractKey
    contracts: int


Move = Roll | OpenLeg | Close
"""A step of an adjustment; all steps of one are a single order."""


def plain_consequence(action: Consequence) -> dict[str, Any]:
    """As JSON data; :func:`consequence` reads it."""
    name = next(name for name, kind in _NAMES.items() if isinstance(action, kind))
    # what says nothing is left out, as it was before it could be said
    return {"do": name, **{key: value for key, value in action.__dict__.items() if value is not False}}


def consequence(raw: Mapping[str, Any]) -> Consequence:
    return _NAMES[raw["do"]](**{key: value for key, value in raw.items() if key != "do"})
