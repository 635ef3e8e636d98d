"""What a declaration is: the one place from which validation, schema, editor, sentence, docs and
evaluation of a measure, pick, condition or exit are made.

A sentence template names parameters in braces; ``{n|session|sessions}`` writes the number and the
right form of the word after it.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

Kind = Literal["integer", "number", "choice", "weekdays", "time", "flag"]
WEEKDAYS = ("mon", "tue", "wed", "thu", "fri")
WEEKDAY_NAMES = {"mon": "Mon", "tue": "Tue", "wed": "Wed", "thu": "Thu", "fri": "Fri"}
_LARGEST = 1e15
_TIME = re.compile(r"^([01]\d|2[0-3]):[0-5]\d$")


@dataclass(frozen=True)
class Param:
    """One value of a sentence. ``step`` is also the grid: other values are refused."""

    name: str
    kind: Kind
    label: str
    default: Any
    minimum: float | None = None
    maximum: float | None = None
    step: float = 1
    unit: str = ""
    choices: Mapping[str, str] = field(default_factory=dict)
    """Choice value to the words shown for it."""
    optional: bool = False

    def problem(self, value: Any) -> str | None:
        """What is wrong with a value, in words that say what to do; ``None`` if nothing is."""
        if value is None:
            return None if self.optional else f"{self.label} is missing"
        if self.kind == "choice":
            return (
                None
                if value in self.choices
                else f"{self.label} must be one of {', '.join(self.choices)}, not '{value}'"
            )
        if self.kind == "flag":
            return None if isinstance(value, bool) else f"{self.label} must be true or false"
        if self.kind == "time":
            good = isinstance(value, str) and _TIME.match(value)
            return None if good else f"{self.label} must be a time of day like 15:45, not '{value}'"
        if self.kind == "weekdays":
            if not isinstance(value, list) or not value or len(set(value)) != len(value):
                return f"{self.label} must list at least one weekday, each once"
            wrong = [day for day in value if day not in WEEKDAYS]
            return f"'{wrong[0]}' is not a weekday; use mon, tue, wed, thu, fri" if wrong else None
        return self._number_problem(value)

    def _number_problem(self, value: Any) -> str | None:
        if isinstance(value, bool) or not isinstance(value, int | float) or not abs(value) < _LARGEST:
            return f"{self.label} must be a number, not '{str(value)[:40]}'"
        if self.kind == "integer" and value != int(value):
            return f"{self.label} must be a whole number, not {value}"
        if (self.minimum is not None and value < self.minimum) or (self.maximum is not None and value > self.maximum):
            unit = f" {self.unit}" if self.unit else ""
            return f"{self.label} must lie between {self.minimum:g} and {self.maximum:g}{unit}, not {value:g}"
        steps = value / self.step
        if abs(steps - round(steps)) > 1e-6:
            return f"{self.label} goes in steps of {self.step:g}, {value:g} does not fit"
        return None

    def text(self, value: Any) -> str:
        """How the value reads in a sentence."""
        if value is None:
            return "any"
        if self.kind == "choice":
            return self.choices[value]
        if self.kind == "weekdays":
            names = [WEEKDAY_NAMES[day] for day in WEEKDAYS if day in value]
            return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
        if self.kind == "flag":
            return "yes" if value else "no"
        if self.kind == "time":
            return str(value)
        digits = max(0, len(f"{self.step:.6f}".rstrip("0").split(".")[1]))
        number = f"{value:.{digits}f}"
        return f"{number} {self.unit}" if self.unit else number


@dataclass(frozen=True)
class Declaration:
    """Everything Strell knows about one kind of sentence or pick, except how it is computed."""

    id: str
    section: str
    """Where it may stand: enter, legs, size, leave, orders, measure, expiry pick, strike pick."""
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
    unit: str = ""
    grid: float = 0.0
    """Values used in decisions are rounded to this (0: integers, exact)."""
    price_basis: str = ""
    warm_up: str = ""
    needs: tuple[str, ...] = ()
    stages: tuple[str, ...] = ("rules", "backtest", "replay", "paper", "live")
    when_true: str = ""
    when_false: str = ""
    when_unvalued: str = ""
    mirror: Mapping[str, Mapping[Any, Any]] = field(default_factory=dict)
    """Parameter name to a map of values that change when a strategy is mirrored."""
    mirror_swaps: tuple[tuple[str, str], ...] = ()
    """Pairs of parameters that exchange their values when a strategy is mirrored."""
    once: bool = False
    """At most one such sentence in a strategy."""

    @property
    def mirrors(self) -> bool:
        """Whether its mirror differs from itself."""
        return bool(self.mirror or self.mirror_swaps)

    def defaults(self) -> dict[str, Any]:
        return {param.name: param.default for param in self.params if not param.optional}

    def param(self, name: str) -> Param:
        for param in self.params:
            if param.name == name:
                return param
        raise KeyError(name)

    def problems(self, values: Mapping[str, Any]) -> list[tuple[str, str]]:
        """``(parameter, message)`` for all that is wrong with a sentence's values."""
        known = {param.name for param in self.params}
        found = [
            (name, f"'{name}' is not a value of this sentence; it has {', '.join(sorted(known)) or 'none'}")
            for name in values
            if name not in known
        ]
        for param in self.params:
            message = param.problem(values.get(param.name))
            if message:
                found.append((param.name, message))
        return found
