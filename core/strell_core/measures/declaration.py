"""What a declaration is: the one place from which validation, schema, editor, sentence, docs and
evaluation of a measure, pick, condition or exit are made.

A sentence template names parameters in braces; ``{n|session|sessions}`` writes the number and the
right form of the word after it.
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from strell_core.measures.params import NAMES, WEEKDAYS, Param, minutes

__all__ = ["WEEKDAYS", "Declaration", "Param", "minutes"]


def known_words(given: object, known: Iterable[str], has: str = "there is") -> str:
    """What there is instead of a word that is not known: the nearest ones where some are near, else all."""
    there = list(known)
    near = difflib.get_close_matches(str(given)[:60].casefold(), there, 3, 0.6)
    return f"did you mean {' or '.join(near)}?" if near else f"{has} {', '.join(there) or 'none'}"


@dataclass(frozen=True)
class Declaration:
    """Everything Strell knows about one kind of sentence or pick, except how it is computed."""

    id: str
    section: str
    """Where it may stand: a section of the sheet, measure, expiry pick, strike pick."""
    title: str
    sentence: str
    params: tuple[Param, ...]
    explains: str
    """What it means, in a sentence or two, with when it is unvalued."""
    example: str
    words: tuple[str, ...] = ()
    """Words to find it by."""
    version: int = 1
    scope: str = "market"
    """What it speaks of: market, leg, structure, position, account, clock."""
    clock: str = "session"
    """When a market measure is known: of completed sessions, or at every ``snapshot``."""
    unit: str = ""
    grid: float = 0.0
    """Values used in decisions are rounded to this (0: integers, exact)."""
    price_basis: str = ""
    warm_up: str = ""
    needs: tuple[str, ...] = ()
    when_true: str = ""
    when_false: str = ""
    when_unvalued: str = ""
    tells: tuple[str, ...] = ()
    """Numbers it tells beside its own values, for the texts of reasons."""
    mirror: Mapping[str, Mapping[Any, Any]] = field(default_factory=dict)
    """Parameter name to a map of values that change when a strategy is mirrored."""
    mirror_swaps: tuple[tuple[str, str], ...] = ()
    """Pairs of parameters that exchange their values when a strategy is mirrored."""
    once: bool = False
    """At most one such sentence in a strategy."""
    begins: Mapping[str, Any] = field(default_factory=dict)
    """Values that a new sentence begins with where they are others than those it has when it says nothing."""
    usual: tuple[str, Any] | None = None
    """Of a measure: with what a condition on it begins, a comparison and a value; ``None``: as its unit suggests."""

    @property
    def mirrors(self) -> bool:
        """Whether its mirror differs from itself."""
        return bool(self.mirror or self.mirror_swaps)

    def defaults(self) -> dict[str, Any]:
        return self.normal({param.name: param.default for param in self.params if not param.optional})

    def param(self, name: str) -> Param:
        for param in self.params:
            if param.name == name:
                return param
        raise KeyError(name)

    def normal(self, values: Mapping[str, Any]) -> dict[str, Any]:
        """Values as they are stored."""
        known = self._by_name
        return {
            name: value if name not in known or value is None else known[name].of_kind.normal(known[name], value)
            for name, value in values.items()
        }

    @cached_property
    def naming(self) -> tuple[Param, ...]:
        """Parameters of which a value names something of the document, or may hold what does."""
        return tuple(param for param in self.params if param.kind in NAMES or param.of_kind.nested)

    @cached_property
    def _by_name(self) -> dict[str, Param]:
        return {param.name: param for param in self.params}

    def told(self, values: Mapping[str, Any]) -> dict[str, Any]:
        """Values that are not the declared default, or not what was meant before there was another: what a sentence says
        beyond it."""
        defaults = {**{param.name: param.default for param in self.params}, **self.defaults()}
        defaults |= {param.name: param.earlier_default for param in self.params if param.earlier_default is not None}
        return {
            param.name: param.of_kind.told(param, values[param.name])
            for param in self.params
            if values.get(param.name) is not None and values[param.name] != defaults[param.name]
        }

    def problems(self, values: Mapping[str, Any], nested: bool = True) -> list[tuple[str, str]]:
        """``(parameter, message)`` for all that is wrong with a sentence's values; without what is ``nested`` in them
        where somebody else asks for that."""
        known = self._by_name
        found = [
            (
                str(name)[:60],
                f"'{str(name)[:60]}' is not a value of this sentence; {known_words(name, sorted(known), 'it has')}",
            )
            for name in list(values)[:60]
            if name not in known
        ]
        for param in self.params:
            value = values.get(param.name)
            if param.of_kind.nested and value is not None:
                found += [(f"{param.name}/{path}".rstrip("/"), m) for path, m in param.inner(value)] if nested else []
            elif message := param.problem(value):
                found.append((param.name, message))
        return found
