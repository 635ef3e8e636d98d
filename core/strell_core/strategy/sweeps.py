"""A strategy's rules with some of their values varied: which values can be, what a person asked for, every variant."""

from __future__ import annotations

import copy
import itertools
import math
import random
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from strell_core.market.prices import number
from strell_core.measures.declaration import Declaration
from strell_core.measures.params import Param, minutes
from strell_core.strategy import catalogue
from strell_core.strategy.document import Made, Strategy, normalise, revised, typed
from strell_core.strategy.parts import parts, switched_on

SWEPT = ("number", "choice", "time")
"""Editors of values that can be varied."""
MOST_DIALS, MOST_VALUES, MOST_CELLS = 4, 50, 2000
UNDERLYING = "underlyings/0"
_RANGE = re.compile(r"^\s*(\S+)\s+(?:to|until|–|-)\s+(\S+)(?:\s+(?:by|in steps of)\s+(\S+))?\s*$")


class SweepError(ValueError):
    """What was asked for cannot be swept. ``path`` leads to it."""

    def __init__(self, path: str, message: str) -> None:
        super().__init__(message)
        self.path, self.message = path, message


@dataclass(frozen=True)
class Place:
    """A value of a strategy's sheet that can be varied."""

    path: str
    sentence: str
    """Id of the sentence it stands in; nothing: of the strategy itself."""
    param: Param
    value: Any

    def text(self, value: Any) -> str:
        return self.param.text(value)


@dataclass(frozen=True)
class Dial:
    """Values that one or several places take together."""

    paths: tuple[str, ...]
    values: tuple[Any, ...]


def places(document: Mapping[str, Any], symbols: Sequence[str] = ()) -> list[Place]:
    """Every number, choice and time of a normalised document's sentences, in the sheet's order; and its underlying,
    where it has one and there are several ``symbols``."""
    out = []
    if len(document["underlyings"]) == 1 and len(symbols) > 1:
        choices = {symbol: symbol for symbol in symbols}
        param = Param("underlying", "choice", "Underlying", symbols[0], choices=choices)
        out.append(Place(UNDERLYING, "", param, document["underlyings"][0]))
    for path, part, _, sentences in parts(document):
        known = catalogue.sentences(part)
        for index, item in switched_on(sentences):
            for place, param, value in _within(known[item["rule"]], item, f"{path}/{index}"):
                out.append(Place(place, item["id"], param, value))
    return out


def _within(declaration: Declaration, values: Mapping[str, Any], path: str) -> Iterator[tuple[str, Param, Any]]:
    for param in declaration.params:
        value = values.get(param.name)
        if value is None:
            continue
        if param.of_kind.nested:
            for at, inner, held in param.of_kind.within(param, value):
                yield from _within(inner, held, "/".join(bit for bit in (path, param.name, at) if bit))
        elif param.of_kind.editor in SWEPT:
            yield f"{path}/{param.name}", param, value
    if declaration.id in catalogue.OPTION_LEGS:
        for name in catalogue.PICKS:
            pick = values[name]
            yield from _within(catalogue.picks(name)[pick["pick"]], pick, f"{path}/{name}")


def values_of(param: Param, text: str) -> list[Any]:
    """What a person typed for a dial: a list with commas, or a range like ``0.10 to 0.30 by 0.05`` (of times in
    minutes); raises :class:`SweepError` in words."""
    text = text.strip()
    found = _RANGE.match(text)
    made = _range(param, *found.groups()) if found and param.of_kind.editor != "choice" else _list(param, text)
    made = list(dict.fromkeys(made))
    if not made:
        raise SweepError("values", f"{param.label}: write values, like {_example(param)}.")
    if len(made) > MOST_VALUES:
        raise SweepError("values", f"{param.label}: at most {MOST_VALUES} values, these are {len(made)}.")
    for value in made:
        problem = param.problem(value)
        if problem:
            raise SweepError("values", f"{problem}.")
    return made


def suggested(place: Place) -> str:
    """Values to begin with, around the one that the sheet has."""
    param, value = place.param, place.value
    if param.of_kind.editor == "choice":
        return ", ".join(value if "," in told else told for value, told in param.choices.items())
    if param.of_kind.editor == "time":
        around = [minutes(value) + by for by in (-60, -30, 0, 30, 60)]
        return ", ".join(f"{at // 60:02d}:{at % 60:02d}" for at in around if 0 <= at < 24 * 60)
    step = max(param.step, abs(value) / 4)
    found = []
    for by in (-2, -1, 0, 1, 2):
        near = round(round((value + by * step) / param.step) * param.step, 10)
        if param.problem(int(near) if near == int(near) and param.kind == "integer" else near) is None:
            found.append(f"{near:g}")
    return ", ".join(dict.fromkeys(found))


def _example(param: Param) -> str:
    if param.of_kind.editor == "time":
        return "10:00, 15:45 or 10:00 to 16:00 by 30"
    if param.of_kind.editor == "choice":
        return ", ".join(list(param.choices)[:3])
    return "0.10, 0.15, 0.20 or 0.10 to 0.30 by 0.05" if param.step < 1 else "10, 20, 30 or 10 to 50 by 10"


def _list(param: Param, text: str) -> list[Any]:
    words = [word.strip() for word in text.split(",") if word.strip()]
    if param.of_kind.editor == "number":
        return [_number(param, word) for word in words]
    if param.of_kind.editor == "choice":
        shown = {told.lower(): value for value, told in param.choices.items()}
        return [shown.get(word.lower(), word) for word in words]
    return [word.zfill(5) for word in words]


def _number(param: Param, word: str) -> int | float:
    try:
        made = float(number(word))
    except ValueError as error:
        raise SweepError("values", f"{param.label}: {str(error) or f'{word!r} is no number'}.") from error
    return int(made) if made == int(made) and param.kind == "integer" else made


def _range(param: Param, low: str, high: str, by: str | None) -> list[Any]:
    if param.of_kind.editor == "time":
        ends = [low.zfill(5), high.zfill(5)]
        for end in ends:
            problem = param.problem(end)
            if problem:
                raise SweepError("values", f"{problem}.")
        apart = int(_number(param, by)) if by else 30
        if apart < 1:
            raise SweepError("values", f"{param.label}: steps of at least one minute.")
        return [f"{at // 60:02d}:{at % 60:02d}" for at in range(minutes(ends[0]), minutes(ends[1]) + 1, apart)]
    first, last, step = _number(param, low), _number(param, high), abs(_number(param, by)) if by else param.step
    if step <= 0 or not math.isfinite((last - first) / step):
        raise SweepError("values", f"{param.label}: steps of more than nothing.")
    count = int((last - first) / step + 1e-9) + 1
    if not 0 < count <= MOST_VALUES:
        said = "the end lies before the start" if count < 1 else f"at most {MOST_VALUES} values, these are {count}"
        raise SweepError("values", f"{param.label}: {said}.")
    made = [round(first + n * step, 10) for n in range(count)]
    return [int(value) if param.kind == "integer" and value == int(value) else value for value in made]


def check(dials: Sequence[Dial], known: Sequence[Place]) -> None:
    """Raises :class:`SweepError` where dials name what is not there, or one place twice."""
    if not 0 < len(dials) <= MOST_DIALS:
        raise SweepError("dials", f"One to {MOST_DIALS} values are varied together.")
    there, taken = {place.path for place in known}, set()
    for number_, dial in enumerate(dials):
        for path in dial.paths:
            if path not in there:
                raise SweepError(f"dials/{number_}", "This value is not in the sheet any more; choose it again.")
            if path in taken:
                raise SweepError(f"dials/{number_}", "One value is varied once.")
            taken.add(path)


def cells(dials: Sequence[Dial], count: int | None = None, seed: int = 1) -> list[tuple[int, ...]]:
    """Places of every combination's values, the last dial fastest; ``count``: so many of them, drawn by chance and in
    order. Raises :class:`SweepError` for more than 2000."""
    sizes = [len(dial.values) for dial in dials]
    total = math.prod(sizes)
    if count is None or count >= total:
        if total > MOST_CELLS:
            said = f"{total:,} variants are too many".replace(",", " ")
            raise SweepError("dials", f"{said}: at most {MOST_CELLS}. Leave values out, or have some drawn by chance.")
        return list(itertools.product(*(range(size) for size in sizes)))
    if not 0 < count <= MOST_CELLS:
        raise SweepError("count", f"One to {MOST_CELLS} variants are drawn.")
    drawn = sorted(random.Random(seed).sample(range(total), count))
    out = []
    for place in drawn:
        bits = []
        for size in reversed(sizes):
            place, bit = divmod(place, size)
            bits.append(bit)
        out.append(tuple(reversed(bits)))
    return out


def taken(dials: Sequence[Dial], cell: Sequence[int]) -> dict[str, Any]:
    """The values of a cell by their paths."""
    return {
        path: dial.values[place] for dial, place in zip(dials, cell, strict=True) for path in dial.paths
    }  # fmt: skip


def varied(document: Mapping[str, Any], values: Mapping[str, Any]) -> dict[str, Any]:
    """A document with other values at some paths, which shares with the first all that is the same; raises ``KeyError``
    or ``IndexError`` where there is nothing."""
    out = dict(document)
    for path, value in values.items():
        *way, last = path.split("/")
        at: Any = out
        for bit in way:
            key = int(bit) if isinstance(at, list) else bit
            at[key] = copy.copy(at[key])
            at = at[key]
        key = int(last) if isinstance(at, list) else last
        at[key]
        at[key] = value
    if UNDERLYING in values:
        out["entries"] = [
            {**entry, "underlying": values[UNDERLYING]} if "underlying" in entry else entry for entry in out["entries"]
        ]
    return out


class Variations:
    """Variants of one document: what they have in common is asked and typed once. ``document`` is a normalised one, which
    nobody changes any more; raises :class:`strell_core.strategy.document.DocumentError`."""

    def __init__(self, document: Mapping[str, Any]) -> None:
        self._document, self._known = normalise(document), Made()

    def document(self, values: Mapping[str, Any]) -> dict[str, Any]:
        """The document with other values, which its sentences allow, at some paths. Raises
        :class:`strell_core.strategy.document.DocumentError` where these do not go together."""
        return revised(varied(self._document, values))

    def strategy(self, document: dict[str, Any]) -> Strategy:
        """One of these documents, typed."""
        return typed(document, self._known)
