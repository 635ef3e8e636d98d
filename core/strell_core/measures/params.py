"""Values of sentences and their kinds. A kind says everything about its values: what is wrong with one, how it reads,
its JSON Schema, and with what it is edited. Adding a kind is one class here or beside the rule that needs it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

NAMES = ("leg", "entry", "underlying", "series")
"""Kinds of values that name something of the document."""
WEEKDAYS = ("mon", "tue", "wed", "thu", "fri")
WEEKDAY_NAMES = {"mon": "Mon", "tue": "Tue", "wed": "Wed", "thu": "Thu", "fri": "Fri"}
Editor = Literal["number", "choice", "choices", "time", "text", "value", "reference", "times", "within"]
"""With what a person changes a value: a number between bounds, one or several of some options, a time of day, a text, a
measure with its own values, something the document names, several times of day; or by what stands within it."""
_LARGEST = 1e15
_TIME = r"^([01]\d|2[0-3]):[0-5]\d$"


def minutes(time: str) -> int:
    """Minutes of the day of a time like ``15:45``."""
    return int(time[:2]) * 60 + int(time[3:])


class ParamKind:
    """A kind of value. ``options`` are what may be chosen, each with the words shown for it."""

    editor: Editor = "text"
    nested = False
    """Its values have values of their own."""

    def problem(self, param: Param, value: Any) -> str | None:
        """What is wrong with a value, in words that say what to do; ``None`` if nothing is."""
        raise NotImplementedError

    def text(self, param: Param, value: Any) -> str:
        """How the value reads in a sentence."""
        return str(value)

    def schema(self, param: Param) -> dict[str, Any]:
        """JSON Schema of the value."""
        raise NotImplementedError

    def options(self, param: Param) -> dict[str, str]:
        return {}

    def within(self, param: Param, value: Any) -> Iterator[tuple[str, Any, Mapping[str, Any]]]:
        """``(path, declaration, values)`` of everything within a value that has a declaration of its own."""
        yield from ()

    def problems(self, param: Param, value: Any) -> Iterator[tuple[str, str]]:
        """``(path within the value, message)`` for all that is wrong with it."""
        message = self.problem(param, value)
        if message:
            yield "", message

    def normal(self, param: Param, value: Any) -> Any:
        """The value as it is stored."""
        return value

    def written(self, param: Param, value: Any) -> Any:
        """A stored value as a person writes it."""
        return value

    def told(self, param: Param, value: Any) -> Any:
        """A stored value as far as it says something: what is left at a default within it is left out."""
        return value


class NumberKind(ParamKind):
    """A number between the bounds, on the grid of its step."""

    editor: Editor = "number"

    def problem(self, param: Param, value: Any) -> str | None:
        if isinstance(value, bool) or not isinstance(value, int | float) or not abs(value) < _LARGEST:
            return f"{param.called} must be a number, not '{str(value)[:40]}'"
        low, high = param.minimum, param.maximum
        if (low is not None and value < low) or (high is not None and value > high):
            unit = f" {param.unit}" if param.unit else ""
            return f"{param.called} must lie between {low:g} and {high:g}{unit}, not {value:g}"
        steps = value / param.step
        if abs(steps - round(steps)) > 1e-6:
            return f"{param.called} goes in steps of {param.step:g}, {value:g} does not fit"
        return None

    def text(self, param: Param, value: Any) -> str:
        digits = max(0, len(f"{param.step:.6f}".rstrip("0").split(".")[1]))
        number = f"{value:.{digits}f}".replace("-", "\u2212")
        return f"{number} {param.unit}" if param.unit else number

    def schema(self, param: Param) -> dict[str, Any]:
        bounds = {"minimum": param.minimum, "maximum": param.maximum}
        return {"type": "number", **{name: bound for name, bound in bounds.items() if bound is not None}}


class IntegerKind(NumberKind):
    def problem(self, param: Param, value: Any) -> str | None:
        if isinstance(value, float) and abs(value) < _LARGEST and value != int(value):
            return f"{param.called} must be a whole number, not {value}"
        return super().problem(param, value)

    def schema(self, param: Param) -> dict[str, Any]:
        return {**super().schema(param), "type": "integer"}


class AmountKind(NumberKind):
    """A number of any unit, shown with the places it has."""

    def text(self, param: Param, value: Any) -> str:
        return f"{float(value):,.14g}".replace(",", "\u00a0").replace("-", "\u2212")


SHARE = re.compile(r"^(\d{1,3})\s*%$")


class ToleranceKind(NumberKind):
    """How far away something may be: a number, or a share of what is wanted, written like ``50 %``."""

    editor: Editor = "text"

    def problem(self, param: Param, value: Any) -> str | None:
        if not isinstance(value, str):
            return super().problem(param, value)
        share = SHARE.match(value)
        if share is None or not 1 <= int(share[1]) <= 100:
            return f"{param.called} is a number, or a share like 50 % between 1 and 100 %, not '{value[:40]}'"
        return None

    def normal(self, param: Param, value: Any) -> Any:
        if not isinstance(value, str):
            return value
        if share := SHARE.match(value.strip()):
            return f"{int(share[1])} %"
        try:
            return float(value)
        except ValueError:
            return value

    def text(self, param: Param, value: Any) -> str:
        return value if isinstance(value, str) else super().text(param, value)

    def schema(self, param: Param) -> dict[str, Any]:
        return {"anyOf": [super().schema(param), {"type": "string", "pattern": SHARE.pattern}]}


def tolerance_of(value: float | str, wanted: float) -> float:
    """How far away something may be of which ``wanted`` is wanted, in the same unit."""
    return wanted * int(value.split("%")[0]) / 100 if isinstance(value, str) else value


class ChoiceKind(ParamKind):
    """One of the parameter's choices."""

    editor: Editor = "choice"

    def problem(self, param: Param, value: Any) -> str | None:
        if isinstance(value, str) and value in param.choices:
            return None
        return f"{param.called} must be one of {', '.join(param.choices)}, not '{str(value)[:40]}'"

    def text(self, param: Param, value: Any) -> str:
        return param.choices[value]

    def schema(self, param: Param) -> dict[str, Any]:
        return {"enum": list(param.choices)}

    def options(self, param: Param) -> dict[str, str]:
        return dict(param.choices)


class WeekdaysKind(ParamKind):
    """At least one weekday, each once."""

    editor: Editor = "choices"

    def problem(self, param: Param, value: Any) -> str | None:
        if (
            not isinstance(value, list)
            or not 0 < len(value) <= len(WEEKDAYS)
            or any(value.count(day) > 1 for day in value)
        ):
            return f"{param.called} must list at least one weekday, each once"
        wrong = [day for day in value if day not in WEEKDAYS]
        return f"'{str(wrong[0])[:40]}' is not a weekday; use mon, tue, wed, thu, fri" if wrong else None

    def text(self, param: Param, value: Any) -> str:
        names = [WEEKDAY_NAMES[day] for day in WEEKDAYS if day in value]
        return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"

    def schema(self, param: Param) -> dict[str, Any]:
        return {"type": "array", "items": {"enum": list(WEEKDAYS)}, "minItems": 1, "uniqueItems": True}

    def options(self, param: Param) -> dict[str, str]:
        return WEEKDAY_NAMES


class TimeKind(ParamKind):
    """An exchange-local time of day."""

    editor: Editor = "time"

    def problem(self, param: Param, value: Any) -> str | None:
        good = isinstance(value, str) and re.match(_TIME, value)
        return None if good else f"{param.called} must be a time of day like 15:45, not '{str(value)[:40]}'"

    def schema(self, param: Param) -> dict[str, Any]:
        return {"type": "string", "pattern": _TIME}


class WordsKind(ParamKind):
    """A few words, in quotation marks where a sentence says them: they are a name and no part of what it says."""

    def problem(self, param: Param, value: Any) -> str | None:
        if (
            not isinstance(value, str)
            or not value.strip()
            or len(value) > 60
            or not value.isprintable()
            or "”" in value
        ):
            return f"{param.called}: write a few words, not '{str(value)[:40]}'"
        return None

    def text(self, param: Param, value: Any) -> str:
        return f"“{value}”"

    def schema(self, param: Param) -> dict[str, Any]:
        return {"type": "string", "minLength": 1, "maxLength": 60}


_SIZE = re.compile(r"\{n(?:\|([^|}]*)\|([^}]*))?\}")
REFERENCES = ("sentence", "leg", "entry", "underlying", "series")
"""Kinds of values that name something of the document; what they begin as is up to whoever adds the sentence."""
NO_SENTENCE, NO_SERIES = "must name a sentence", "must be one of your own: load one under Data first"
UNNAMED = (NO_SENTENCE, NO_SERIES)


class SentenceKind(ParamKind):
    """The id of another sentence: a leg, an entry."""

    editor: Editor = "reference"

    def problem(self, param: Param, value: Any) -> str | None:
        return None if isinstance(value, str) and 0 < len(value) <= 40 else f"{param.called} {NO_SENTENCE}"

    def schema(self, param: Param) -> dict[str, Any]:
        return {"type": "string", "minLength": 1, "maxLength": 40}


class EntryKind(SentenceKind):
    """The id of an entry, which is a name and no part of what a sentence says."""

    def text(self, param: Param, value: Any) -> str:
        return f"“{value}”"


class SeriesKind(WordsKind):
    """The name of a series of one's own."""

    editor: Editor = "reference"

    def problem(self, param: Param, value: Any) -> str | None:
        return f"{param.called} {NO_SERIES}" if value == "" else super().problem(param, value)

    def normal(self, param: Param, value: Any) -> Any:
        return value.strip().upper() if isinstance(value, str) else value


param_kinds: dict[str, ParamKind] = {
    "integer": IntegerKind(), "number": NumberKind(), "choice": ChoiceKind(), "weekdays": WeekdaysKind(),
    "time": TimeKind(), "amount": AmountKind(), "sentence": SentenceKind(), "leg": SentenceKind(), "entry": EntryKind(),
    "underlying": SentenceKind(), "words": WordsKind(), "series": SeriesKind(),
    "tolerance": ToleranceKind(),
}  # fmt: skip
"""Kinds by name; a room that needs another adds it when it is imported."""


@dataclass(frozen=True)
class Param:
    """One value of a sentence. ``step`` is also the grid: other values are refused."""

    name: str
    kind: str
    label: str
    default: Any
    minimum: float | None = None
    maximum: float | None = None
    step: float = 1
    unit: str = ""
    choices: Mapping[str, str] = field(default_factory=dict)
    """Choice value to the words shown for it."""
    optional: bool = False
    begins: Any = None
    """What an optional value is added with where a person adds it to a sentence; nothing: it is not added that way."""
    leads: str = ""
    """What stands before an optional value, a space where nothing is said."""
    scopes: tuple[str, ...] = ()
    """Of a value: what it may speak of; nothing: what the value it stands in may."""
    by_sign: tuple[str, str, str] | None = None
    """Of a number: how one above zero, zero and one below it read, ``{n}`` or ``{n|word|words}`` its size."""
    earlier_default: Any = None
    """What the identity of a document leaves out, where that is not the default: what was meant before there was another."""

    @property
    def called(self) -> str:
        """Its label as a message names it: what opens an editor has dots behind it."""
        return self.label.rstrip("…")

    @property
    def of_kind(self) -> ParamKind:
        return param_kinds[self.kind]

    def problem(self, value: Any) -> str | None:
        """What is wrong with a value, in words that say what to do; ``None`` if nothing is."""
        if value is None:
            return None if self.optional else f"{self.called} is missing"
        return self.of_kind.problem(self, value)

    def inner(self, value: Any) -> list[tuple[str, str]]:
        """``(path within the value, message)`` of a value that has values of its own."""
        return list(self.of_kind.problems(self, value))

    def text(self, value: Any) -> str:
        """How the value reads in a sentence."""
        if value is None:
            return "any"
        if self.by_sign is None:
            return self.of_kind.text(self, value)
        size, words = abs(value), self.by_sign[0 if value > 0 else 1 if value == 0 else 2]
        number = self.of_kind.text(self, size)
        return _SIZE.sub(lambda found: f"{number} {found[1 if size == 1 else 2]}" if found[1] else number, words)

    def schema(self) -> dict[str, Any]:
        """JSON Schema of the value."""
        return {"title": self.label, "default": self.default, **self.of_kind.schema(self)}
